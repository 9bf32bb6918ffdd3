"""ID3v2 tags in front of a file (id3.org, from memory)."""

from typing import BinaryIO

__all__ = ["after_id3", "id3_bytes"]

HEAD_BYTES = 10


def id3_bytes(head: bytes) -> int:
    """How long the tag is whose first ten bytes these are, with its head and footer; 0 where it is none.

    Its length is stated in bytes of seven bits.
    """
    if head[:3] != b"ID3" or len(head) < HEAD_BYTES:
        return 0
    length = head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
    return HEAD_BYTES + length + (HEAD_BYTES if head[5] & 0x10 else 0)


def after_id3(file: BinaryIO) -> int:
    """Where the sound begins behind ID3v2 tags, of which there may be several."""
    at = 0
    while True:
        file.seek(at)
        length = id3_bytes(file.read(HEAD_BYTES))
        if not length:
            return at
        at += length
