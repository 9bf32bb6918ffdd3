"""Tags behind the sound of a file: ID3v1, APE and Lyrics3 (common practice)."""

from typing import BinaryIO

__all__ = ["APE_MARK", "TAIL_MARKS", "after_tail_tags", "before_tail_tags"]

APE_MARK = b"APETAGEX"
TAIL_MARKS = (APE_MARK, b"ID3", b"TAG", b"LYRICSBEGIN")
"""How what may stand there begins."""
_MOST_TAGS = 4


def before_tail_tags(file: BinaryIO, size_bytes: int) -> int:
    """Where the sound ends before them."""
    end = size_bytes
    for _ in range(_MOST_TAGS):
        file.seek(max(0, end - 160))
        tail = file.read(min(end, 160))
        taken = 0
        if len(tail) >= 128 and tail[-128:-125] == b"TAG":
            taken = 128
        elif len(tail) >= 32 and tail[-32:-24] == APE_MARK:
            # The stated size leaves the header out, whose presence the highest flag tells.
            length, flags = int.from_bytes(tail[-20:-16], "little"), int.from_bytes(tail[-12:-8], "little")
            taken = length + (32 if flags >> 31 else 0)
        elif len(tail) >= 15 and tail[-9:] == b"LYRICS200" and tail[-15:-9].isdigit():
            taken = int(tail[-15:-9]) + 15
        # What claims to be longer than the file is no tag.
        if not 0 < taken < end:
            break
        end -= taken
    return end


def after_tail_tags(file: BinaryIO, at: int) -> int:
    """Where what follows such tags begins, read forwards; ID3v2 belongs to what follows."""
    for _ in range(_MOST_TAGS):
        file.seek(at)
        head = file.read(32)
        if head[:3] == b"TAG":
            at += 128
        elif head[:8] == APE_MARK:
            at += 32 + int.from_bytes(head[12:16], "little")
        else:
            break
    return at
