"""Tracks that are there more than once: the same samples, or the same recording in other formats."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

from django.db.models import Count, F, Q, QuerySet
from django.db.models.functions import Lower

from rumbrel.core.errors import RumbrelError
from rumbrel.core.sound.fine_picture import FinePicture, load_picture
from rumbrel.core.sound.resemblance import ALIKE, OTHER, resemblance

from .facts import is_of
from .models import DeepLook, Track
from .pictures import picture_path

__all__ = ["RECORDING", "SOUND", "DuplicateGroup", "Likeness", "group_keys", "groups_on_page"]

SOUND, RECORDING = "sound", "recording"
_MOST_APART_SECONDS = 2.0
"""Of one recording in two formats: coders add and take away a little at the ends."""
Key = tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Likeness:
    """A track of a group, and how it stands to the group's first: said in words, "" for that one itself."""

    track: Track
    text: str = ""
    doubtful: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class DuplicateGroup:
    """Tracks that hold one sound, the best of them first: lossless before lossy, whole before faulty, then by depth,
    rate, and bitrate or size."""

    members: tuple[Likeness, ...]

    @property
    def ids(self) -> tuple[int, ...]:
        return tuple(member.track.pk for member in self.members)

    @property
    def other_ids(self) -> tuple[int, ...]:
        return self.ids[1:]

    @property
    def spare_bytes(self) -> int:
        return sum(member.track.size_bytes for member in self.members[1:])


def group_keys(kind: str) -> QuerySet[Track, Key]:
    """What the groups of a kind are known by, in order. A group of one recording may fall apart by its lengths."""
    there = Track.objects.filter(missing_since=None, usable=True).order_by()
    if kind == SOUND:
        looked = _looked(there).values_list("look__digest")
        return looked.annotate(n=Count("pk")).filter(n__gt=1).order_by("look__digest").values_list("look__digest")
    named = there.exclude(title="").exclude(performer="").annotate(one=Lower("performer"), other=Lower("title"))
    counted = named.values("one", "other").annotate(n=Count("pk")).filter(n__gt=1)
    return counted.order_by("one", "other").values_list("one", "other")


def groups_on_page(kind: str, keys: Sequence[Key]) -> list[DuplicateGroup]:
    """The groups of some keys. Those of one recording leave out what is equal sample for sample: that is of the
    other kind."""
    if kind == SOUND:
        return _by_sound([key[0] for key in keys])
    return [group for performer, title in keys for group in _by_recording(performer, title)]


def _looked(tracks: QuerySet[Track]) -> QuerySet[Track]:
    """Those of which the digest is that of the file as it is now."""
    same = Q(look__size_bytes=F("size_bytes")) | Q(cut_of__isnull=False)
    return tracks.exclude(look__digest="").filter(same, look__modified_ns=F("modified_ns"))


def _by_sound(digests: Sequence[str]) -> list[DuplicateGroup]:
    tracks = _looked(Track.objects.filter(missing_since=None, usable=True, look__digest__in=digests))
    by_digest: dict[str, list[Track]] = {}
    for track in tracks.select_related("folder", "look"):
        by_digest.setdefault(track.look.digest, []).append(track)
    groups = []
    for digest in digests:
        first, *others = sorted(by_digest.get(digest, []), key=_rank)
        same = tuple(Likeness(track=track, text="the same, sample for sample") for track in others)
        groups.append(DuplicateGroup(members=(Likeness(track=first), *same)))
    return groups


def _by_recording(performer: str, title: str) -> list[DuplicateGroup]:
    named = Track.objects.filter(missing_since=None, usable=True).annotate(one=Lower("performer"), other=Lower("title"))
    tracks = sorted(
        named.filter(one=performer, other=title).select_related("folder", "look"), key=lambda track: track.seconds
    )
    clusters: list[list[Track]] = [[track] for track in tracks[:1]]
    for before, track in pairwise(tracks):
        if track.seconds - before.seconds <= _MOST_APART_SECONDS:
            clusters[-1].append(track)
        else:
            clusters.append([track])
    return [group for cluster in clusters if (group := _compared(cluster))]


def _compared(cluster: list[Track]) -> DuplicateGroup | None:
    first, *others = sorted(cluster, key=_rank)
    look = _look_of(first)
    others = [track for track in others if not (look and (two := _look_of(track)) and two.digest == look.digest)]
    if not others:
        return None
    picture = _picture_of(first)
    return DuplicateGroup(members=(Likeness(track=first), *(_likeness(picture, track) for track in others)))


def _likeness(picture: FinePicture | None, track: Track) -> Likeness:
    other = _picture_of(track)
    if picture is None or other is None:
        return Likeness(
            track=track, text="the same names and length; not compared before both are analysed", doubtful=True
        )
    value = resemblance(picture, other)
    if value >= ALIKE:
        return Likeness(track=track, text=f"sounds alike ({value:.2f} of 1)")
    if value < OTHER:
        return Likeness(track=track, text=f"sounds different ({value:.2f} of 1): another recording", doubtful=True)
    return Likeness(track=track, text=f"may be another recording ({value:.2f} of 1). Listen to both", doubtful=True)


def _look_of(track: Track) -> DeepLook | None:
    look = getattr(track, "look", None)
    return look if look is not None and look.digest and is_of(look, track) else None


def _picture_of(track: Track) -> FinePicture | None:
    """None where there is none of the file as it is now, or none that can be read."""
    if _look_of(track) is None:
        return None
    try:
        return load_picture(picture_path(track.pk))
    except RumbrelError:
        return None


def _rank(track: Track) -> tuple[bool, bool, int, int, int, int, int]:
    """Of equal lossless ones the smaller comes first."""
    cost = track.size_bytes if track.lossless else -track.bitrate_bps
    return (
        not track.lossless,
        not track.whole,
        track.faults,
        -(track.bit_depth or 0),
        -track.sample_rate,
        cost,
        track.pk,
    )
