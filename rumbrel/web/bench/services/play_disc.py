"""The stand-in player: a disc in it, and what it makes of it."""

from dataclasses import dataclass

from rumbrel.core.bench.player import StandInPlayer
from rumbrel.core.disc.reading import contents_digest
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, SECTORS_PER_SECOND
from rumbrel.core.errors import DiscError
from rumbrel.web.discs.services import PlayedTrack, play_track

from ..models import Drive
from .shelf import ShelfDisc, shelf_disc

__all__ = ["PlayerDisc", "PlayerTrack", "disc_in_player", "played_track", "put_into_player", "take_from_player"]

_PLAYER = "player"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayerTrack:
    """A track as the player counts it, from its index 1 to the next one's."""

    number: int
    seconds: float


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayerDisc:
    """What is in the player: its tracks, or why it plays none. mark changes with the disc."""

    label: str
    tracks: tuple[PlayerTrack, ...] = ()
    refusal: str = ""
    mark: str = ""


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
    seconds = [
        player.track_bytes(number) / BYTES_PER_SECTOR / SECTORS_PER_SECOND for number in range(1, player.tracks + 1)
    ]
    tracks = tuple(PlayerTrack(number=number, seconds=length) for number, length in enumerate(seconds, 1))
    return PlayerDisc(label=disc.label, tracks=tracks, mark=contents_digest(disc.open().contents)[:16])


def played_track(number: int) -> PlayedTrack:
    """Raises DiscError for an empty player, and for what the disc does not have."""
    disc = _inside()
    if disc is None:
        raise DiscError("No disc is in the player. Put one in.")
    return play_track(disc.path, number)
