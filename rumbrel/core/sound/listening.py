"""Sound as browsers take it: a WAV file of known length that can be read while it is still being written.

Run as a module with a file's choice as JSON it writes one, and ends when the process that wanted it is gone.
"""

import json
import os
import struct
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rumbrel.core.errors import DecodeError, OutputError, RumbrelError
from rumbrel.core.files import move_into_place, working_file
from rumbrel.core.records import as_record, from_record

from .decoding import StreamChoice, open_sound
from .shape import Block

__all__ = ["ListeningShape", "request_record", "write_listening"]

_LARGEST_BYTES = (1 << 32) - 1
_PCM, _EXTENSIBLE = 1, 0xFFFE
_PCM_GUID = b"\x01\x00\x00\x00\x00\x00\x10\x00\x80\x00\x00\xaa\x00\x38\x9b\x71"


@dataclass(frozen=True, slots=True, kw_only=True)
class ListeningShape:
    """A sound as it is listened to: every sample of the source, as 16 or 24 bit integers."""

    sample_rate: int
    channels: int
    samples: int
    depth_bits: int

    @classmethod
    def of(cls, sample_rate: int, channels: int, samples: int, depth_bits: int | None) -> "ListeningShape":
        """24 bit for what has more than 16 or is no whole number, unless the file grew too long for WAV's lengths.

        Raises DecodeError for a sound that is too long even so.
        """
        for depth in (16,) if depth_bits and depth_bits <= 16 else (24, 16):
            shape = cls(sample_rate=sample_rate, channels=channels, samples=samples, depth_bits=depth)
            if shape.total_bytes <= _LARGEST_BYTES:
                return shape
        raise DecodeError("This is too long to be heard here as one file: convert it, then listen to the result.")

    @property
    def frame_bytes(self) -> int:
        """Of all channels' samples of one instant."""
        return self.channels * self.depth_bits // 8

    @property
    def header(self) -> bytes:
        """RIFF, format and data chunk heads; extensible from three channels on (RFC 2361 and Microsoft's MMREG, from memory)."""
        sound = self.samples * self.frame_bytes
        code = _EXTENSIBLE if self.channels > 2 else _PCM
        form = struct.pack(
            "<HHIIHH", code, self.channels, self.sample_rate, self.sample_rate * self.frame_bytes, self.frame_bytes,
            self.depth_bits,
        )  # fmt: skip
        if code == _EXTENSIBLE:
            form += struct.pack("<HHI", 22, self.depth_bits, (1 << self.channels) - 1) + _PCM_GUID
        body = b"WAVE" + b"fmt " + struct.pack("<I", len(form)) + form + b"data" + struct.pack("<I", sound)
        return b"RIFF" + struct.pack("<I", min(_LARGEST_BYTES, len(body) + sound + sound % 2)) + body

    @property
    def total_bytes(self) -> int:
        sound = self.samples * self.frame_bytes
        return 12 + 8 + (40 if self.channels > 2 else 16) + 8 + sound + sound % 2

    def packed(self, block: Block) -> bytes:
        """Samples as the file holds them: whole numbers as they are, others rounded and held at full scale."""
        top = 1 << (self.depth_bits - 1)
        if block.dtype.kind == "i":
            shift = block.dtype.itemsize * 8 - self.depth_bits
            values = (block.astype(np.int32) << -shift) if shift < 0 else block.astype(np.int32) >> shift
        else:
            values = np.clip(np.rint(block.astype(np.float64) * top), -top, top - 1).astype(np.int32)
        if self.depth_bits == 16:
            return values.astype("<i2").tobytes()
        return np.ascontiguousarray(values.astype("<i4").view(np.uint8).reshape(-1, 4)[:, :3]).tobytes()


def _wanted(blocks: Iterator[Block], shape: ListeningShape) -> Iterator[Block]:
    """So many samples as were promised: what a damaged file lacks at its end is silence."""
    left = shape.samples
    for block in blocks:
        if not left:
            return
        yield block[:left]
        left -= min(left, len(block))
    while left:
        count = min(left, 1 << 16)
        yield np.zeros((count, shape.channels), dtype=np.int16)
        left -= count


def write_listening(path: Path, choice: StreamChoice, shape: ListeningShape, output: Path) -> None:
    """Decode a file into output, which appears whole; its working file can be read meanwhile, from its beginning as
    far as it has grown. Raises DecodeError and OutputError."""
    parent = os.getppid()
    with working_file(output) as working:
        with working.open("wb") as file, open_sound(path, choice) as sound:
            if (sound.shape.sample_rate, sound.shape.channels) != (shape.sample_rate, shape.channels):
                raise DecodeError("The file changed since it was scanned. Scan its folder again.")
            file.write(shape.header)
            for block in _wanted(sound.blocks(), shape):
                file.write(shape.packed(block))
                file.flush()
                if os.getppid() != parent:
                    return
            if file.tell() < shape.total_bytes:
                file.write(b"\0")
        move_into_place(working, output, replaces=True)


def request_record(path: Path, choice: StreamChoice, shape: ListeningShape, output: Path) -> str:
    """What this module, run on its own, is to write."""
    parts = {"path": str(path), "choice": as_record(choice), "shape": as_record(shape), "output": str(output)}
    return json.dumps(parts, ensure_ascii=True)


def main() -> int:
    parts = json.loads(sys.stdin.read())
    try:
        write_listening(
            Path(parts["path"]), from_record(StreamChoice, parts["choice"]), from_record(ListeningShape, parts["shape"]),
            Path(parts["output"]),
        )  # fmt: skip
    except (RumbrelError, OSError) as error:
        print(error if isinstance(error, RumbrelError) else OutputError(str(error)))
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
