"""Metadata blocks of FLAC files (RFC 9639, 8)."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import BinaryIO

__all__ = ["COMMENTS", "MARK", "PICTURE", "STREAM_INFO_BYTES", "StreamInfo", "metadata_blocks", "stream_info"]

MARK = b"fLaC"
COMMENTS, PICTURE = 4, 6
STREAM_INFO_BYTES = 34
_MOST_BLOCKS = 128


def metadata_blocks(file: BinaryIO) -> Iterator[tuple[int, int, int, bool]]:
    """(kind, offset of the content, length, whether it is the last) of each block, from the first on.

    Ends without a last one where the file ends before, or where there are more blocks than any file has.
    """
    at = len(MARK)
    for _ in range(_MOST_BLOCKS):
        file.seek(at)
        head = file.read(4)
        if len(head) < 4:
            return
        length, last = int.from_bytes(head[1:], "big"), bool(head[0] & 0x80)
        yield head[0] & 0x7F, at + 4, length, last
        if last:
            return
        at += 4 + length


@dataclass(frozen=True, slots=True, kw_only=True)
class StreamInfo:
    """What the first block states (8.2). Sizes of blocks are in samples, of a frame in bytes; samples is 0
    and md5 all zero bytes where the writer did not know them."""

    least_block: int
    most_block: int
    largest_frame_bytes: int
    sample_rate: int
    channels: int
    bit_depth: int
    samples: int
    md5: bytes


def stream_info(head: bytes) -> StreamInfo | None:
    """The stream's info from the first 42 bytes of a file; None where it does not begin with it."""
    if head[:4] != MARK or len(head) < 8 + STREAM_INFO_BYTES or head[4] & 0x7F:
        return None
    if int.from_bytes(head[5:8], "big") != STREAM_INFO_BYTES:
        return None
    packed = int.from_bytes(head[18:26], "big")
    return StreamInfo(
        least_block=int.from_bytes(head[8:10], "big"),
        most_block=int.from_bytes(head[10:12], "big"),
        largest_frame_bytes=int.from_bytes(head[15:18], "big"),
        sample_rate=packed >> 44,
        channels=(packed >> 41 & 7) + 1,
        bit_depth=(packed >> 36 & 31) + 1,
        samples=packed & (1 << 36) - 1,
        md5=head[26:42],
    )
