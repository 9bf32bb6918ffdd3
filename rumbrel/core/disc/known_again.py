"""Whether a disc is one that was met before: its contents table, its text and codes, and some of its sound.

Two discs of tracks that are equally long have the same table, and many carry neither text nor codes. So a few sectors from the
middle of some tracks are read; where a drive cannot, it stays in doubt.
"""

import hashlib
from dataclasses import dataclass

from rumbrel.core.verdict import Verdict

from .reading import Contents, DiscDrive, SectorUnread, contents_digest
from .red_book import BYTES_PER_SECTOR, CHANNELS

__all__ = ["DiscMark", "disc_mark", "said_mark", "same_disc"]

_TRACKS_HEARD, _SECTORS_HEARD, _SECTORS_BESIDE = 3, 8, 3
_BYTES_PER_SAMPLE = CHANNELS * 2


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscMark:
    """Digests of the contents table, of the text and codes, and of some of the sound; "" where there is none of it."""

    table: str
    said: str = ""
    sound: str = ""


def disc_mark(drive: DiscDrive) -> DiscMark:
    """Of the disc in a drive. Each stretch of sound is read twice; where the two differ, nothing is known of it."""
    contents = drive.contents()
    return DiscMark(table=contents_digest(contents), said=said_mark(contents), sound=_sound_mark(drive, contents))


def said_mark(contents: Contents) -> str:
    """Of CD-Text, product code and the tracks' ISRC."""
    codes = [contents.product_code, *(track.isrc for track in contents.tracks)]
    if not contents.text and not any(codes):
        return ""
    return hashlib.blake2b(contents.text + b"\0" + "\0".join(codes).encode(), digest_size=10).hexdigest()


def _sound_mark(drive: DiscDrive, contents: Contents) -> str:
    digest = hashlib.blake2b(digest_size=10)
    count = _SECTORS_HEARD + 2 * _SECTORS_BESIDE
    late = (_SECTORS_BESIDE * BYTES_PER_SECTOR) + drive.offset_samples * _BYTES_PER_SAMPLE
    heard = 0
    for position, track in enumerate(contents.tracks):
        end = contents.end_of(position)
        start = (track.start_sector + end - count) // 2
        if end - track.start_sector < 2 * count or heard == _TRACKS_HEARD:
            continue
        try:
            one, other = (drive.read_sectors(start, count, speed=drive.speeds[0]) for _ in range(2))
        except SectorUnread:
            return ""
        if one != other:
            return ""
        digest.update(one[late : late + _SECTORS_HEARD * BYTES_PER_SECTOR])
        heard += 1
    return digest.hexdigest() if heard else ""


def same_disc(one: DiscMark, other: DiscMark) -> Verdict:
    """passed for the same disc, failed for another, doubtful where nothing but the table speaks for it."""
    if one.table != other.table:
        return Verdict.FAILED
    for mine, theirs in ((one.sound, other.sound), (one.said, other.said)):
        if mine and theirs:
            return Verdict.PASSED if mine == theirs else Verdict.FAILED
    return Verdict.DOUBTFUL
