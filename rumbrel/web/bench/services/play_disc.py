"""The stand-in player: a disc in it, and what it makes of it."""

from collections.abc import Mapping
from dataclasses import dataclass

from rumbrel.core.bench.drive import DEAD, RELUCTANT, drive_for, faults_of
from rumbrel.core.bench.player import HIDDEN, Span, StandInPlayer
from rumbrel.core.disc.reading import contents_digest
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND, format_msf
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError
from rumbrel.web.discs.services import PlayedTrack, play_track
from rumbrel.web.ui.words import counted

from ..models import Drive
from .shelf import ShelfDisc, shelf_disc

__all__ = ["PlayerDisc", "PlayerTrack", "disc_in_player", "played_track", "put_into_player", "take_from_player"]

_PLAYER = "player"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayerTrack:
    """A part of the disc as a player counts it: a track from its index 1 to the next one's, or what is hidden before the
    first. shown is what a display with CD-Text says; stumbles, where the player falters."""

    part: str
    seconds: float
    shown: str = ""
    gap_seconds: float = 0.0
    pre_emphasis: bool = False
    seam: str = ""
    stumbles: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayerDisc:
    """What is in the player: its tracks, or why it plays none. title is what a display with CD-Text says of the disc, mark
    changes with the disc."""

    label: str
    tracks: tuple[PlayerTrack, ...] = ()
    refusal: str = ""
    title: str = ""
    has_text: bool = False
    mark: str = ""

    @property
    def count(self) -> int:
        """How many tracks the player shows."""
        return sum(1 for track in self.tracks if track.part != HIDDEN)


def put_into_player(*, disc_key: str) -> None:
    """Whatever lies on the shelf: a player takes any disc, and shows only then what it makes of it. Raises DiscError
    for a disc that is gone."""
    Drive.objects.update_or_create(key=_PLAYER, defaults={"disc_key": shelf_disc(disc_key).key})


def take_from_player() -> None:
    Drive.objects.filter(key=_PLAYER).update(disc_key="")


def _inside() -> ShelfDisc | None:
    row = Drive.objects.filter(key=_PLAYER).exclude(disc_key="").first()
    return shelf_disc(row.disc_key) if row else None


def disc_in_player() -> PlayerDisc | None:
    """None for an empty player."""
    try:
        disc = _inside()
    except DiscError as error:
        return PlayerDisc(label="a disc that is gone", refusal=str(error))
    if disc is None:
        return None
    try:
        player = StandInPlayer(disc.path)
    except DiscError as error:
        return PlayerDisc(label=disc.label, refusal=str(error))
    contents, text = player.contents, player.text
    faults = faults_of(drive_for(disc.condition), contents.lead_out_sector)
    tracks = [_track(player, position, text, faults) for position in range(player.tracks)]
    if contents.tracks[0].start_sector:
        span = player.span_of(HIDDEN)
        tracks.insert(0, PlayerTrack(part=HIDDEN, seconds=_seconds(span.sectors), stumbles=_stumbles(span, faults)))
    return PlayerDisc(
        label=disc.label, tracks=tuple(tracks), has_text=text is not None, title=_shown(text.disc) if text else "",
        mark=contents_digest(contents)[:16],
    )  # fmt: skip


def _track(player: StandInPlayer, position: int, text: DiscText | None, faults: Mapping[int, str]) -> PlayerTrack:
    track, part = player.contents.tracks[position], str(position + 1)
    span = player.span_of(part)
    named = text.tracks[position] if text and position < len(text.tracks) else None
    return PlayerTrack(
        part=part, seconds=_seconds(span.sectors), shown=_shown(named) if named else "",
        gap_seconds=_seconds(track.gap_sectors) if position else 0.0, pre_emphasis=track.pre_emphasis,
        seam=f"seam-{part}" if position else "", stumbles=_stumbles(span, faults),
    )  # fmt: skip


def _seconds(sectors: int) -> float:
    return sectors / SECTORS_PER_SECOND


def _shown(text: TrackText) -> str:
    return " · ".join(each for each in (text.title, text.performer) if each)


_MOST_NAMED = 3


def _stumbles(span: Span, faults: Mapping[int, str]) -> tuple[str, ...]:
    """Where a player falls silent for a sector, and where it has to try again: it may skip there."""
    said = []
    for fault, words in ((DEAD, "silent for 13 ms at"), (RELUCTANT, "may skip at")):
        found = [at for at in sorted(faults) if faults[at] == fault and span.start_sector <= at < span.end_sector]
        if found:
            places = ", ".join(format_msf(at - span.start_sector) for at in found[:_MOST_NAMED])
            more = f" and {counted(len(found) - _MOST_NAMED, 'more place')}" if len(found) > _MOST_NAMED else ""
            said.append(f"{words} {places}{more}")
    return tuple(said)


def played_track(part: str) -> PlayedTrack:
    """Raises DiscError for an empty player, and for what the disc does not have."""
    disc = _inside()
    if disc is None:
        raise DiscError("No disc is in the player. Put one in.")
    faults = faults_of(drive_for(disc.condition), disc.open().contents.lead_out_sector)
    return play_track(disc.path, part, unread=[at for at, fault in faults.items() if fault == DEAD])
