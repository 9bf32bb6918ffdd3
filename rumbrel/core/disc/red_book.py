"""Figures of the compact disc, audio (IEC 60908, from memory) and its time arithmetic."""

import math

__all__ = [
    "BYTES_PER_SECTOR",
    "CHANNELS",
    "DEPTH_BITS",
    "FIRST_PAUSE_SECTORS",
    "MAX_TRACKS",
    "MIN_TRACK_SECTORS",
    "SAMPLES_PER_SECTOR",
    "SAMPLE_RATE",
    "SECTORS_PER_SECOND",
    "format_msf",
    "parse_msf",
    "sectors_for_samples",
]

SAMPLE_RATE = 44_100
DEPTH_BITS = 16
CHANNELS = 2
SECTORS_PER_SECOND = 75
SAMPLES_PER_SECTOR = SAMPLE_RATE // SECTORS_PER_SECOND
BYTES_PER_SECTOR = SAMPLES_PER_SECTOR * CHANNELS * DEPTH_BITS // 8
FIRST_PAUSE_SECTORS = 150
"""Sectors before address 0, which every disc has and no image holds."""
MAX_TRACKS = 99
MIN_TRACK_SECTORS = 4 * SECTORS_PER_SECOND


def sectors_for_samples(samples: int) -> int:
    """Whole sectors that hold so many stereo samples at 44.1 kHz."""
    return math.ceil(samples / SAMPLES_PER_SECTOR)


def nearest_sectors(seconds: float) -> int:
    """The whole sectors nearest to a time; a half goes up."""
    return math.floor(seconds * SECTORS_PER_SECOND + 0.5 + 1e-9)


def format_msf(sectors: int, *, pad_minutes: bool = False) -> str:
    """m:ss:ff of a count of sectors; mm:ss:ff with pad_minutes, as cue sheets want it."""
    if sectors < 0:
        raise ValueError("a time on a disc is not negative")
    seconds, frames = divmod(sectors, SECTORS_PER_SECOND)
    minutes, seconds = divmod(seconds, 60)
    return f"{minutes:02d}:{seconds:02d}:{frames:02d}" if pad_minutes else f"{minutes}:{seconds:02d}:{frames:02d}"


def spoken_time(sectors: int) -> str:
    """A length for people: "19 min 48 s", "48 s", to the tenth of a second below ten."""
    seconds = sectors / SECTORS_PER_SECOND
    if seconds < 10:
        return f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s" if minutes else f"{rest} s"


def parse_msf(text: str) -> int:
    """Sectors of m:ss:ff. Raises ValueError when it is none."""
    parts = text.strip().split(":")
    if len(parts) != 3 or not all(part.isdecimal() and part.isascii() for part in parts):
        raise ValueError(f"'{text}' is not a time in minutes, seconds and frames")
    minutes, seconds, frames = (int(part) for part in parts)
    if seconds > 59 or frames >= SECTORS_PER_SECOND:
        raise ValueError(f"'{text}' has more than 59 seconds or 74 frames")
    return (minutes * 60 + seconds) * SECTORS_PER_SECOND + frames
