"""Exact lengths from the structure of each container, and whether the file holds all it states.

Each reader returns a Length; what a container does not state is counted by decoding.
"""

import os
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import av.error
import soundfile

from rumbrel.core.containers.chunks import riff_chunks
from rumbrel.core.containers.ogg import last_position
from rumbrel.core.formats.table import Lengths, container_for, container_row
from rumbrel.core.sound.decoding import is_plain

from .counting import counted_length
from .ends import stated_end, stated_sound
from .facts import Length
from .mp4_lengths import m4a_stream_length
from .mpeg_lengths import mp3_stream_length

__all__ = ["length_reader", "riff_coding", "riff_valid_bits", "wavpack_bits"]


def riff_coding(path: Path) -> int | None:
    """The number of the coding that a RIFF format chunk states."""
    with path.open("rb") as file:
        for name, at, length in riff_chunks(file, path.stat().st_size, "<"):
            if name == b"fmt " and length >= 2:
                file.seek(at)
                return int.from_bytes(file.read(2), "little")
    return None


def riff_valid_bits(path: Path) -> int | None:
    """The meaningful bits that an extensible format chunk states (WAVE_FORMAT_EXTENSIBLE), else None."""
    with path.open("rb") as file:
        for name, at, length in riff_chunks(file, path.stat().st_size, "<"):
            if name == b"fmt ":
                file.seek(at)
                chunk = file.read(min(length, 40))
                if len(chunk) >= 20 and chunk[:2] == b"\xfe\xff":
                    valid = int.from_bytes(chunk[18:20], "little")
                    return valid if 1 <= valid <= int.from_bytes(chunk[14:16], "little") else None
                return None
    return None


def wavpack_bits(path: Path) -> int | None:
    """Depth from the first block's flags: bytes a sample less 1 in two bits, left shift in five (from memory).

    None for floating point and one bit sound, which have none.
    """
    with path.open("rb") as file:
        head = file.read(32)
    if head[:4] != b"wvpk" or len(head) < 28:
        return None
    flags = int.from_bytes(head[24:28], "little")
    if flags & (_WAVPACK_FLOAT | _WAVPACK_ONE_BIT):
        return None
    return ((flags & 3) + 1) * 8 - (flags >> 13 & 31)


_WAVPACK_FLOAT, _WAVPACK_ONE_BIT = 1 << 7, 1 << 31


def _plain_length(path: Path, stream: Any) -> Length:
    """Uncompressed containers: their sound, held against where it should end by its own statement."""
    try:
        about = soundfile.info(os.fsencode(path))
    except soundfile.SoundFileError:
        return _checked_length(path, stream)
    if is_plain(about.subtype):
        length = Length(samples=about.frames, stated=about.frames, bitrate_mode="constant")
    else:
        length = counted_length(path, stream)
    size = path.stat().st_size
    with path.open("rb") as file:
        sound = stated_sound(file, size)
    if sound is None or sound[0] + sound[1] <= size:
        return length
    here = max(0, size - sound[0])
    return replace(length, stated=round(length.samples * sound[1] / here) if here else None, whole=False)


def _flac_length(path: Path, stream: Any) -> Length:
    """STREAMINFO states the samples; whether they are all there shows at the file's end."""
    info = stream.codec_context.extradata
    stated = int.from_bytes(info[13:18], "big") & 0xFFFFFFFFF if info and len(info) >= 18 else 0
    if not stated:
        return counted_length(path, stream)
    if _ends_at(path, stated):
        return Length(samples=stated, stated=stated, bitrate_mode="variable")
    counted = counted_length(path, stream)
    return replace(counted, stated=stated, whole=False, bitrate_mode="variable")


def _ends_at(path: Path, stated: int) -> bool:
    """Whether the last second of the file decodes up to its stated end."""
    reached = 0
    try:
        with av.open(str(path), metadata_errors="replace") as container:
            stream = container.streams.audio[0]
            rate = stream.codec_context.sample_rate
            container.seek(max(0, stated - rate), stream=stream, any_frame=False)
            for frame in container.decode(stream):
                if frame.pts is None or frame.time_base is None:
                    return False
                reached = max(reached, round(frame.pts * frame.time_base * rate) + frame.samples)
    except (av.error.FFmpegError, OSError):
        return False
    return reached >= stated


def _ogg_length(path: Path, stream: Any) -> Length:
    """The last page's position, less what the decoder is told to skip (RFC 3533, RFC 7845)."""
    with path.open("rb") as file:
        head = file.read(4096)
        position = last_position(file, path.stat().st_size)
    opus = head.find(b"OpusHead")
    pre_skip = int.from_bytes(head[opus + 10 : opus + 12], "little") if opus != -1 else 0
    if position is None:
        counted = counted_length(path, stream)
        return replace(counted, whole=False, bitrate_mode="variable")
    samples = max(0, position - pre_skip)
    return Length(samples=samples, stated=samples, bitrate_mode="variable", delay_samples=pre_skip or None)


_DSF_COUNT_AT = 28 + 36
_DSF_SAMPLES_A_BYTE = 8


def _dsf_length(path: Path, stream: Any) -> Length:
    """The format chunk states the one bit samples; the last block is filled up (from memory).

    FFmpeg decodes eight of them to one, so a length here is an eighth.
    """
    counted = counted_length(path, stream)
    with path.open("rb") as file:
        file.seek(_DSF_COUNT_AT)
        stated = int.from_bytes(file.read(8), "little") // _DSF_SAMPLES_A_BYTE
    return replace(counted, samples=min(stated, counted.samples), stated=stated, whole=counted.samples >= stated)


def _checked_length(path: Path, stream: Any) -> Length:
    """Counted, and held against what the file says of itself."""
    counted = counted_length(path, stream)
    row, rate = container_for(stream.container.format.name), stream.codec_context.sample_rate
    if row.lengths is Lengths.STATED and stream.duration is not None:
        stated = round(stream.duration * stream.time_base * rate)
        return replace(counted, stated=stated, whole=counted.whole and counted.samples >= stated)
    with path.open("rb") as file:
        end = stated_end(file, row.key)
    if end is None or end <= path.stat().st_size:
        return counted
    stated = round((stream.container.duration or 0) / av.time_base * rate)
    # Some lengths are worked out from what is there, and promise nothing.
    return replace(counted, stated=stated if stated > counted.samples + rate else None, whole=False)


LengthReader = Callable[[Path, Any], Length]

_READERS: dict[Lengths, LengthReader] = {
    Lengths.PLAIN: _plain_length,
    Lengths.FLAC: _flac_length,
    Lengths.MP4: m4a_stream_length,
    Lengths.OGG: _ogg_length,
    Lengths.MPEG: mp3_stream_length,
    Lengths.DSF: _dsf_length,
    Lengths.STATED: _checked_length,
    Lengths.COUNTED: _checked_length,
}


def length_reader(container: str) -> LengthReader:
    """The reader for a container key; what has no row is decoded and counted."""
    return _READERS[container_row(container).lengths]
