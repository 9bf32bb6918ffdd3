"""Headers that state no length, or an old one, as interrupted recorders leave them (common practice)."""

import struct
from dataclasses import dataclass, replace
from typing import BinaryIO

from rumbrel.core.sound.decoding import BareSound

from .facts import Fault, FaultCode
from .heading import Heading

__all__ = ["CAF_HEAD", "IFF_HEAD", "NO_HEAD", "RIFF_HEAD", "W64_HEAD", "is_hidden", "misstated", "within"]


@dataclass(frozen=True, slots=True)
class ChunkHead:
    """How the head of a chunk is packed, its name first and its length last; to how many bytes chunks are filled up;
    how many bytes of the head the length counts."""

    form: str
    filled_bytes: int
    counted_bytes: int = 0


RIFF_HEAD = ChunkHead("<4sI", 2)
IFF_HEAD = ChunkHead(">4sI", 2)
CAF_HEAD = ChunkHead(">4sQ", 1)
W64_HEAD = ChunkHead("<16sQ", 8, 24)
NO_HEAD = ChunkHead("", 1)
"""Of a container that has no chunks: whatever lies behind is none."""

_LEAST_HIDDEN_BYTES = 4096
"""Less than this behind the sound is somebody's remark and no sound."""

_BARE_SUBTYPES = {
    ("pcm", 8): "PCM_U8", ("pcm", 16): "PCM_16", ("pcm", 24): "PCM_24", ("pcm", 32): "PCM_32",
    ("pcm-float", 32): "FLOAT", ("pcm-float", 64): "DOUBLE", ("mu-law", 8): "ULAW", ("a-law", 8): "ALAW",
}  # fmt: skip


def is_hidden(file: BinaryIO, end: int, size_bytes: int, head: ChunkHead) -> bool:
    """Whether what lies behind the sound's stated end is no chunk, and so is likely to be more of the sound."""
    at = end + -end % head.filled_bytes
    if size_bytes - at < _LEAST_HIDDEN_BYTES:
        return False
    if not head.form:
        return True
    file.seek(at)
    head_bytes = struct.calcsize(head.form)
    name, length = struct.unpack(head.form, file.read(head_bytes))
    named = all(32 <= sign < 127 for sign in name[:4]) or name[:4] == bytes(4)
    return not named or at + head_bytes - head.counted_bytes + length > size_bytes + 1


def misstated(
    heading: Heading | None, at: int, stated_bytes: int, *, size_bytes: int, big_endian: bool
) -> Heading | None:
    """The sound from a place to the end of the file, where the header states no length or too small a one."""
    heading = heading and within(heading, at, big_endian=big_endian)
    if heading is None or heading.bare is None:
        return None
    odd_bytes = (size_bytes - at) % heading.frame_bytes
    samples, frame_bytes = heading.length.samples, heading.frame_bytes
    if odd_bytes:
        text = f"Cut short within a sample: {odd_bytes} of its {frame_bytes} bytes are there. Copy it again from where it came."
        return replace(heading, fault=Fault(code=FaultCode.CUT_SHORT, text=text))
    here = _minutes(samples / heading.sample_rate)
    if 0 < stated_bytes < samples * frame_bytes:
        stated = _minutes(stated_bytes // frame_bytes / heading.sample_rate)
        text = f"The header states {stated}, but {here} of sound lie in the file; all of it is read. Listen to its end."
    else:
        text = f"The header states no length, as in a recording from a pipe; all {here} that lie in the file are read."
    return replace(heading, fault=Fault(code=FaultCode.UNFINISHED, text=text))


def within(heading: Heading, at: int, *, big_endian: bool) -> Heading | None:
    """The heading with the place of its samples in the file, for sound that does not go on to the file's end; None where
    its coding cannot be read so."""
    frame_bytes = heading.frame_bytes
    subtype = _BARE_SUBTYPES.get((heading.codec, frame_bytes * 8 // heading.channels))
    samples = heading.length.samples
    if subtype is None or not samples:
        return None
    if subtype == "PCM_U8" and heading.container not in ("wav", "rifx", "w64"):
        subtype = "PCM_S8"
    bare = BareSound(
        start_byte=at, end_byte=at + samples * frame_bytes, subtype=subtype, sample_rate=heading.sample_rate,
        channels=heading.channels, big_endian=big_endian,
    )  # fmt: skip
    return replace(heading, bare=bare)


def _minutes(seconds: float) -> str:
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s"
