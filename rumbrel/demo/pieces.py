"""The invented pieces of the Quernstow Carillon Trust: tower concerts, organ rolls, spoken notices, tape transfers."""

from dataclasses import dataclass

from .synthesis import Maker, murmur, organ_roll, ringing

__all__ = ["PIECES", "Piece"]

TRUST = "Quernstow Carillon Trust"
LECTURES = "Tape transfers/Lectures"


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """A file to be made; name is its path without suffix below the demo's folder. depth_bits 0 leaves the depth to a lossy coding."""

    name: str
    title: str
    performer: str
    album: str
    maker: Maker
    seconds: float
    encoding: str
    rate: int = 44_100
    depth_bits: int = 16
    channels: int = 2
    bitrate_kbps: int | None = None
    mode: str | None = None
    number: int = 0
    cover: bool = False


def _tower(number: int, title: str, seconds: float, encoding: str, **more: object) -> Piece:
    name = f"{TRUST}/Tower days/{number:02d} {title}"
    return Piece(name=name, title=title, performer="A. Venning", album="Tower days", maker=ringing, seconds=seconds,
                 encoding=encoding, number=number, **more)  # type: ignore[arg-type]  # fmt: skip


def _roll(number: int, title: str, seconds: float, encoding: str, **more: object) -> Piece:
    full = f"Organ roll {number}: {title}"
    return Piece(name=f"{TRUST}/Organ rolls/Roll {number:02d} {title}", title=full, performer="M. Orrel", album="Barrel organ rolls",
                 maker=organ_roll, seconds=seconds, encoding=encoding, number=number, **more)  # type: ignore[arg-type]  # fmt: skip


def _spoken(title: str, seconds: float, encoding: str, folder: str = f"{TRUST}/Spoken", **more: object) -> Piece:
    values = {"performer": "Dr I. Sorley", "album": "Lectures and notices", **more}
    return Piece(name=f"{folder}/{title}", title=title, maker=murmur, seconds=seconds, encoding=encoding, **values)  # type: ignore[arg-type]


PIECES: tuple[Piece, ...] = (
    _tower(1, "Morning peal, north tower", 252, "flac", rate=96_000, depth_bits=24, cover=True),
    _tower(2, "Ropes and sallies", 198, "flac", cover=True),
    _tower(3, "Plain hunt on eight", 346, "mp3", bitrate_kbps=320, depth_bits=16, cover=True),
    _tower(4, "Slack tide", 224, "mp3", bitrate_kbps=192),
    _tower(5, "Chime barrel, slow", 187, "vorbis", depth_bits=0),
    _tower(6, "Quarter hours", 94, "alac", cover=True),
    _tower(7, "Winter changes", 276, "flac"),
    _tower(8, "Night watch", 311, "wav"),
    _tower(9, "Last light", 290, "flac", depth_bits=24, rate=48_000),
    _tower(10, "Bells over the ferry", 288, "aiff"),
    _roll(3, "Lamplighters", 248, "wav"),
    _roll(5, "The Ferryman’s Polka", 171, "flac"),
    _roll(9, "Harbour Waltz", 263, "aiff"),
    _roll(14, "The Tin Duchess", 301, "wav", rate=48_000, depth_bits=24),
    _roll(17, "Größe & Höhe – “Märsche”", 156, "flac"),
    _roll(21, "Snow on the Quay", 204, "opus", rate=48_000, depth_bits=0),
    _roll(22, "Merry-go-round at closing time, as heard from the boat shed with the doors open", 133, "aac", depth_bits=0),
    Piece(name="Tape transfers/Evening concert/Evening concert, part one", title="Evening concert, part one", performer="T. Vaerle",
          album="Evening concert", maker=ringing, seconds=412, encoding="flac", rate=48_000, depth_bits=24, number=1),
    Piece(name="Tape transfers/Evening concert/Evening concert, part two", title="Evening concert, part two", performer="T. Vaerle",
          album="Evening concert", maker=organ_roll, seconds=385, encoding="flac", rate=48_000, depth_bits=24, number=2),
    _spoken("On casting a bell (lecture, side A)", 402, "aac", LECTURES, channels=1, bitrate_kbps=96, depth_bits=0),
    _spoken("On casting a bell (lecture, side B)", 368, "mp3", LECTURES, channels=1, bitrate_kbps=64),
    _spoken("Notice, tower closed", 21, "opus", rate=48_000, channels=1, bitrate_kbps=32, depth_bits=0, performer="Spoken"),
    _spoken("Notice, practice night", 27, "wav", channels=1, performer="Spoken"),
    _spoken("Notice, when the bells ring", 34, "wav-mu-law", rate=8_000, channels=1, performer="Spoken"),
)  # fmt: skip
