"""Exact lengths from the structure of each container, and whether the file holds all it states.

Each reader returns a Length; what a container does not state is counted by decoding.
"""

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, BinaryIO

import av
import av.error
import soundfile

from rumbrel.core.errors import DecodeError
from rumbrel.core.formats.table import codec_for, container_for
from rumbrel.core.sound.decoding import StreamChoice, is_plain, open_sound
from rumbrel.core.sound.mpeg_frames import (
    DECODER_DELAY_SAMPLES,
    FrameHeader,
    InfoFrame,
    find_first_frame,
    parse_header,
    parse_info_frame,
    walk_frames,
)
from rumbrel.core.tags.boxes import box_inside, list_boxes

__all__ = [
    "Length",
    "after_id3",
    "length_reader",
    "mp3_length",
    "ogg_last_position",
    "riff_chunks",
    "riff_valid_bits",
    "wavpack_bits",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Length:
    """samples can be read; stated is what the header promises, None where it promises nothing.

    whole is False when bytes that the structure promises are missing from the file. damaged_packets
    were found where the sound had to be decoded to be counted.
    """

    samples: int
    stated: int | None = None
    whole: bool = True
    bitrate_bps: int | None = None
    bitrate_mode: str = ""
    channel_mode: str = ""
    delay_samples: int | None = None
    padding_samples: int | None = None
    damaged_packets: int = 0


_MOST_CHUNKS = 10_000
"""A file of nothing but empty chunks would hold a reader for hours."""


def riff_chunks(file: BinaryIO, size: int, order: str) -> Iterator[tuple[bytes, int, int]]:
    """Yield (name, offset of the content, stated length) of each chunk of a RIFF or IFF file."""
    at = 12
    for _ in range(_MOST_CHUNKS):
        if at + 8 > size:
            return
        file.seek(at)
        name, length = struct.unpack(f"{order}4sI", file.read(8))
        yield name, at + 8, length
        at += 8 + length + length % 2


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
    """Depth from the first block's flags: bytes a sample less 1 in two bits, left shift in five (from memory)."""
    with path.open("rb") as file:
        head = file.read(32)
    if head[:4] != b"wvpk" or len(head) < 28:
        return None
    flags = int.from_bytes(head[24:28], "little")
    return ((flags & 3) + 1) * 8 - (flags >> 13 & 31)


def _plain_length(path: Path, stream: Any) -> Length:
    """WAV and AIFF: compare the sound chunk's stated length with the file's end."""
    try:
        about = soundfile.info(str(path))
    except soundfile.SoundFileError:
        return _counted_length(path, stream)
    if not is_plain(about.subtype):
        return _counted_length(path, stream)
    samples = about.frames
    size = path.stat().st_size
    with path.open("rb") as file:
        mark = file.read(4)
        order, sound = ("<", b"data") if mark == b"RIFF" else (">", b"SSND")
        if mark not in (b"RIFF", b"FORM"):
            return Length(samples=samples, stated=samples, bitrate_mode="constant")
        for name, at, length in riff_chunks(file, size, order):
            if name != sound or length in (0, 0xFFFFFFFF):
                continue
            here = max(0, size - at)
            if here >= length:
                break
            return Length(
                samples=samples,
                stated=round(samples * length / here) if here else None,
                whole=False,
                bitrate_mode="constant",
            )
    return Length(samples=samples, stated=samples, bitrate_mode="constant")


def _flac_length(path: Path, stream: Any) -> Length:
    """STREAMINFO states the samples; whether they are all there shows at the file's end."""
    info = stream.codec_context.extradata
    stated = int.from_bytes(info[13:18], "big") & 0xFFFFFFFFF if info and len(info) >= 18 else 0
    if not stated:
        return _counted_length(path, stream)
    if _ends_at(path, stated):
        return Length(samples=stated, stated=stated, bitrate_mode="variable")
    counted = _counted_length(path, stream)
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


def _m4a_length(path: Path, stream: Any) -> Length:
    """The track's edited duration, and whether all boxes lie inside the file."""
    rate = stream.codec_context.sample_rate
    if stream.duration is None or not rate:
        return _counted_length(path, stream)
    samples = _edited_samples(path, stream) or round(stream.duration * stream.time_base * rate)
    bitrate = stream.codec_context.bit_rate or None
    if _boxes_end(path) <= path.stat().st_size:
        return Length(samples=samples, stated=samples, bitrate_bps=bitrate, bitrate_mode="variable")
    counted = _counted_length(path, stream)
    return Length(
        samples=min(counted.samples, samples), stated=samples, whole=False, bitrate_bps=bitrate, bitrate_mode="variable"
    )


def _edited_samples(path: Path, stream: Any) -> int | None:
    """Samples of a track with one edit, None for any other (ISO/IEC 14496-12, 8.6.6).

    The edit's length is stated in ticks of the film, often thousandths of a second, and so is rounded.
    Where the track's own length agrees with it to a tick, that is the exact one.
    """
    sounds = [sound.index for sound in stream.container.streams.audio]
    with path.open("rb") as file:
        movie = box_inside(file, (0, path.stat().st_size), b"moov")
        tracks = (list_boxes(file, *movie) or {}).get(b"trak", []) if movie else []
        heard = [track for track in tracks if _content(file, track, b"mdia", b"hdlr")[8:12] == b"soun"]
        if movie is None or len(heard) != len(sounds):
            return None
        track = heard[sounds.index(stream.index)]
        movie_head = _content(file, movie, b"mvhd")
        media_head = _content(file, track, b"mdia", b"mdhd")
        edits = _content(file, track, b"edts", b"elst")
    if min(len(movie_head), len(media_head)) < 20 or len(edits) != 20 or movie_head[0] or media_head[0] or edits[0]:
        return None
    movie_ticks, media_ticks = (int.from_bytes(head[12:16], "big") for head in (movie_head, media_head))
    count, edit_length, start = struct.unpack_from(">IIi", edits, 4)
    if count != 1 or start < 0 or not movie_ticks or media_ticks != stream.codec_context.sample_rate:
        return None
    samples = int.from_bytes(media_head[16:20], "big") - start
    off_ticks = abs(samples * movie_ticks / media_ticks - edit_length)
    return samples if samples > 0 and off_ticks <= 1 else None


def _content(file: BinaryIO, box: tuple[int, int], *names: bytes) -> bytes:
    """The beginning of the only box of a path of names, nothing where there is none."""
    found = box_inside(file, box, *names)
    if found is None:
        return b""
    file.seek(found[0])
    return file.read(min(64, found[1] - found[0]))


def _boxes_end(path: Path) -> int:
    """Where the last top-level box ends by its own statement (ISO/IEC 14496-12)."""
    size = path.stat().st_size
    at = 0
    with path.open("rb") as file:
        while at + 8 <= size:
            file.seek(at)
            length, _name = struct.unpack(">I4s", file.read(8))
            if length == 1:
                length = int.from_bytes(file.read(8), "big")
            if length == 0:
                return size
            if length < 8:
                break
            at += length
    return at


def ogg_last_position(file: BinaryIO, size_bytes: int, *, serial: bytes | None = None) -> int | None:
    """The position that the last page states when it is marked as the last of its stream, else None."""
    file.seek(max(0, size_bytes - _OGG_TAIL_BYTES))
    tail = file.read()
    at = tail.rfind(b"OggS")
    while at != -1:
        page = tail[at : at + 27]
        position = int.from_bytes(page[6:14], "little", signed=True)
        if len(page) == 27 and position >= 0:
            return position if page[5] & 4 and serial in (None, page[14:18]) else None
        at = tail.rfind(b"OggS", 0, at)
    return None


_OGG_TAIL_BYTES = 70_000
"""A page is at most 65,307 bytes long (RFC 3533)."""


def _ogg_length(path: Path, stream: Any) -> Length:
    """The last page's position, less what the decoder is told to skip (RFC 3533, RFC 7845)."""
    with path.open("rb") as file:
        head = file.read(4096)
        position = ogg_last_position(file, path.stat().st_size)
    opus = head.find(b"OpusHead")
    pre_skip = int.from_bytes(head[opus + 10 : opus + 12], "little") if opus != -1 else 0
    if position is None:
        counted = _counted_length(path, stream)
        return replace(counted, whole=False, bitrate_mode="variable")
    samples = max(0, position - pre_skip)
    return Length(samples=samples, stated=samples, bitrate_mode="variable", delay_samples=pre_skip or None)


def _mp3_length(path: Path, stream: Any) -> Length:
    with path.open("rb") as file:
        length = mp3_length(file, path.stat().st_size)
    return length or _counted_length(path, stream)


def mp3_length(file: BinaryIO, size_bytes: int) -> Length | None:
    """The information frame where there is one, else a walk over every frame header; None without frames."""
    start = after_id3(file)
    file.seek(start)
    window = file.read(65_536)
    offset = find_first_frame(window)
    first = parse_header(window[offset : offset + 4]) if offset is not None else None
    if offset is None or first is None:
        return None
    start += offset
    end = _before_tail_tags(file, size_bytes)
    info = parse_info_frame(window[offset : offset + first.size_bytes])
    if info is not None and info.frames and info.stream_bytes and start + info.stream_bytes <= end + first.size_bytes:
        return _stated_mp3_length(info, first)
    return _walked_mp3_length(file, start, end, first, info)


def _walked_mp3_length(
    file: BinaryIO, start: int, end: int, first: FrameHeader, info: InfoFrame | None
) -> Length | None:
    frames = list(walk_frames(file, start if info is None else start + first.size_bytes, end))
    if not frames:
        return None
    rates = {header.bitrate_kbps for _, header in frames}
    samples = len(frames) * first.samples
    sound_bytes = sum(header.size_bytes for _, header in frames)
    stated = None
    if info is not None and info.frames:
        stated = _stated_mp3_length(info, first).samples
        samples = max(0, samples - (info.delay_samples or 0) - DECODER_DELAY_SAMPLES)
    return Length(
        samples=samples,
        stated=stated,
        whole=info is None or not info.frames,
        bitrate_bps=round(sound_bytes * 8 * first.sample_rate / (len(frames) * first.samples)),
        bitrate_mode="constant" if len(rates) == 1 else "variable",
        channel_mode=first.mode,
    )


def _stated_mp3_length(info: InfoFrame, first: FrameHeader) -> Length:
    frames = info.frames or 0
    samples = frames * first.samples
    if info.delay_samples is not None:
        samples -= info.delay_samples + (info.padding_samples or 0)
    # The information frame itself is part of the stated bytes but carries no sound.
    bitrate = round((info.stream_bytes or 0) * 8 * first.sample_rate / ((frames + 1) * first.samples))
    if info.mode == "constant":
        bitrate = first.bitrate_kbps * 1000
    return Length(
        samples=samples,
        stated=samples,
        bitrate_bps=bitrate,
        bitrate_mode=info.mode,
        channel_mode=first.mode,
        delay_samples=info.delay_samples,
        padding_samples=info.padding_samples,
    )


def after_id3(file: BinaryIO) -> int:
    """Where the sound begins behind ID3v2 tags, which state their length in 7 bit bytes."""
    at = 0
    while True:
        file.seek(at)
        head = file.read(10)
        if head[:3] != b"ID3" or len(head) < 10:
            return at
        length = head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
        at += 10 + length + (10 if head[5] & 0x10 else 0)


def _before_tail_tags(file: BinaryIO, size: int) -> int:
    """Where the sound ends before an ID3v1 tag."""
    if size < 128:
        return size
    file.seek(size - 128)
    return size - 128 if file.read(3) == b"TAG" else size


def _counted_length(path: Path, stream: Any) -> Length:
    """Decode everything as a conversion would, and count: silence stands where a packet is damaged."""
    sounds = [sound.index for sound in stream.container.streams.audio]
    choice = StreamChoice(
        container=container_for(stream.container.format.name).key,
        depth_bits=0,
        sound_index=sounds.index(stream.index),
        codec=codec_for(stream.codec_context.name).key,
        channels=stream.codec_context.channels or 0,
    )
    samples = 0
    try:
        with open_sound(path, choice) as sound:
            for length in sound.lengths():
                samples += length
            return Length(samples=samples, damaged_packets=sound.damaged_packets)
    except DecodeError:
        # Up to here it could be read: the count stands, and the header's promise shows the loss.
        return Length(samples=samples, whole=False)


LengthReader = Callable[[Path, Any], Length]

_READERS: dict[str, LengthReader] = {
    "wav": _plain_length,
    "aiff": _plain_length,
    "w64": _plain_length,
    "caf": _plain_length,
    "au": _plain_length,
    "flac": _flac_length,
    "m4a": _m4a_length,
    "ogg": _ogg_length,
    "mp3": _mp3_length,
}


def length_reader(container: str) -> LengthReader:
    """The reader for a container key; any other is decoded and counted."""
    return _READERS.get(container, _counted_length)
