"""Change what a disc is to be; every change can be undone, and none from another window is lost unsaid."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from django.db import transaction

from rumbrel.core.disc.design import DiscDesign, TrackDesign, added, rejoined
from rumbrel.core.errors import DiscError
from rumbrel.core.records import as_record
from rumbrel.core.workflows.offer_disc import DesignOffer
from rumbrel.web.playlists.models import Entry, Playlist
from rumbrel.web.ui.words import counted, meanwhile

from ..models import Disc, DiscChange
from .plan_layout import plan_layout

__all__ = [
    "MOST_LISTED",
    "Changed",
    "change_disc",
    "choose_speed",
    "follow_list",
    "lay_out_list",
    "list_ahead",
    "take_offer",
    "undo_change",
]

MOST_LISTED = 1_000
_MOST_KEPT = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class Changed:
    """told is what the user has to know beside the change itself."""

    disc: Disc
    told: str = ""


def lay_out_list(*, playlist: Playlist) -> Disc:
    """A disc of a list. Raises DiscError for one that is empty or far beyond any disc."""
    ids = list(Entry.objects.filter(playlist=playlist).values_list("track_id", flat=True)[: MOST_LISTED + 1])
    if not ids:
        raise DiscError("The list is empty. Put tracks on it, then lay it out.")
    if len(ids) > MOST_LISTED:
        raise DiscError(
            f"The list has {counted(playlist.count, 'track')}; a disc holds 99, and at most {MOST_LISTED:,} can be "
            "divided here. Make shorter lists of it first."
        )
    design = DiscDesign.of(ids, texts={"title": playlist.name})
    return Disc.objects.create(playlist=playlist, name=playlist.name, plan=as_record(design))


def _locked(disc_id: int) -> Disc:
    """Raises DiscError while it is written."""
    disc = Disc.objects.select_related("job", "playlist").select_for_update().get(pk=disc_id)
    if disc.busy:
        raise DiscError("The disc is being written. Stop the write, or wait for its end, then change it.")
    return disc


def _keep(disc: Disc, design: DiscDesign, said: str, *, name: str = "", made: Sequence[Disc] = ()) -> Disc:
    """The design as the disc's, with a way back."""
    DiscChange.objects.create(
        disc=disc, revision=disc.revision, before=disc.plan, name_before=disc.name, said=said[:300],
        made=[each.pk for each in made],
    )  # fmt: skip
    old = list(disc.changes.values_list("pk", flat=True)[_MOST_KEPT:])
    DiscChange.objects.filter(pk__in=old).delete()
    disc.plan, disc.revision, disc.name = as_record(design), disc.revision + 1, name or disc.name
    disc.save(update_fields=["plan", "revision", "name", "parts"])
    return disc


def _meanwhile(disc: Disc, revision: int | None) -> str:
    """What another window did since a revision."""
    if revision is None or revision >= disc.revision:
        return ""
    return meanwhile("disc", list(disc.changes.filter(revision__gte=revision).values_list("said", flat=True)[:3]))


def change_disc(
    *, disc_id: int, change: Callable[[DiscDesign], DiscDesign], said: str, revision: int | None = None, name: str = ""
) -> Changed:
    """Make a change of the design as it is now; revision is the one that the user saw. Raises DiscError for what
    cannot be, and while the disc is written."""
    with transaction.atomic():
        disc = _locked(disc_id)
        told = _meanwhile(disc, revision)
        design = disc.design
        new = change(design)
        if new == design and name in ("", disc.name):
            return Changed(disc=disc, told=told)
        return Changed(disc=_keep(disc, new, said, name=name), told=told)


def choose_speed(*, disc_id: int, speed: int) -> Changed:
    """The speed at which it is to be written. Raises DiscError while it is written."""
    return change_disc(disc_id=disc_id, change=lambda design: replace(design, speed=speed), said=f"written at {speed}x")


def undo_change(*, disc_id: int, revision: int | None = None) -> Changed:
    """Take the last change back. Discs that it made go with it, unless something was done with them since.

    Raises DiscError when there is none.
    """
    with transaction.atomic():
        disc = _locked(disc_id)
        told = _meanwhile(disc, revision)
        last = disc.changes.first()
        if last is None:
            raise DiscError("There is nothing to undo on this disc.")
        made = Disc.objects.filter(pk__in=last.made)
        kept = [each for each in made if each.revision or each.image_path or each.busy]
        if made and not kept:
            made.delete()
        elif kept:
            told = f"{told} {counted(len(kept), 'disc')} made of it stays: it was changed or written since.".strip()
        disc.plan, disc.name, disc.revision = last.before, last.name_before or disc.name, disc.revision + 1
        disc.parts = 1 if last.made else disc.parts
        disc.save(update_fields=["plan", "name", "revision", "parts"])
        last.delete()
        return Changed(disc=disc, told=told)


def take_offer(*, disc_id: int, key: str, revision: int | None = None) -> Changed:
    """Carry out an offer for the disc as it is now. Raises DiscError when there is no such offer any more."""
    with transaction.atomic():
        disc = _locked(disc_id)
        planned = plan_layout(disc=disc)
        offer = next((each for each in planned.offers() if each.key == key), None)
        if offer is None:
            raise DiscError("That offer was for the disc as it was before. See what is offered now.")
        told = _meanwhile(disc, revision)
        if not offer.several:
            return Changed(disc=_keep(disc, offer.designs[0], offer.text), told=told)
        return Changed(disc=_divided(disc, offer), told=told)


def _divided(disc: Disc, offer: DesignOffer) -> Disc:
    """The disc becomes the first of several, named and numbered."""
    parts, name = len(offer.designs), disc.name
    made = [
        Disc.objects.create(
            playlist=disc.playlist, name=f"{name} {number}"[:200], parts=parts,
            plan=as_record(design), recorder_key=disc.recorder_key,
        )
        for number, design in enumerate(offer.designs[1:], 2)
    ]  # fmt: skip
    disc.parts = parts
    return _keep(disc, offer.designs[0], offer.text, name=f"{name} 1"[:200], made=made)


@dataclass(frozen=True, slots=True, kw_only=True)
class ListAhead:
    """How many tracks the list has more than the disc, and how many fewer."""

    more: int
    fewer: int

    def __bool__(self) -> bool:
        return bool(self.more or self.fewer)


def list_ahead(disc: Disc) -> ListAhead:
    """Against the disc's own rows; a disc that is one of several has no list of its own to follow."""
    if disc.parts > 1:
        return ListAhead(more=0, fewer=0)
    listed = list(Entry.objects.filter(playlist=disc.playlist_id).values_list("track_id", flat=True)[:MOST_LISTED])
    tracks = disc.plan.get("tracks", [])
    ours = [track["source_id"] for track in tracks]
    # What plays in a gap is on the disc, though not as a track.
    ours += {track["lead"]["source_id"] for track in tracks if track.get("lead")} - set(ours)
    more, fewer = Counter(listed) - Counter(ours), Counter(ours) - Counter(listed)
    return ListAhead(more=more.total(), fewer=fewer.total())


def follow_list(*, disc_id: int, revision: int | None = None) -> Changed:
    """Take over the list as it is now; what was asked and said of the tracks that stay, stays."""
    # Read where the disc is held already, so that list and disc are of one moment.
    listed = Entry.objects.filter(playlist__in=Disc.objects.filter(pk=disc_id).values("playlist"))
    return change_disc(
        disc_id=disc_id,
        change=lambda design: _following(design, list(listed.values_list("track_id", flat=True)[:MOST_LISTED])),
        said="the list as it is now",
        revision=revision,
    )


def _following(design: DiscDesign, listed: Sequence[int]) -> DiscDesign:
    left: dict[int, list[TrackDesign]] = {}
    for track in design.tracks:
        left.setdefault(track.source_id, []).append(track)
    fresh = added(design, listed).tracks[len(design.tracks) :]
    tracks = [left[new.source_id].pop(0) if left.get(new.source_id) else new for new in fresh]
    return rejoined(design, tracks)
