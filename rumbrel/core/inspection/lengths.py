"""Exact lengths from the structure of each container, and whether the file holds all it states.

Each reader returns a Length; what a container does not state is counted by decoding.
"""

import io
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
    "chunks_inside",
    "lacks_index",
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
        about = soundfile.info(str(path))
    except soundfile.SoundFileError:
        return _checked_length(path, stream)
    if is_plain(about.subtype):
        length = Length(samples=about.frames, stated=about.frames, bitrate_mode="constant")
    else:
        length = _counted_length(path, stream)
    size = path.stat().st_size
    with path.open("rb") as file:
        sound = _stated_sound(file, size)
    if sound is None or sound[0] + sound[1] <= size:
        return length
    here = max(0, size - sound[0])
    return replace(length, stated=round(length.samples * sound[1] / here) if here else None, whole=False)


_UNKNOWN_LENGTHS = (0, 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF)
_W64_DATA = b"data\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a"


def _stated_sound(file: BinaryIO, size: int) -> tuple[int, int] | None:
    """Offset and stated length in bytes of the sound of an uncompressed file, None where neither is stated."""
    file.seek(0)
    head = file.read(40)
    found: tuple[int, int] | None = None
    if head[:4] in (b"RIFF", b"FORM"):
        # The sound of AIFF begins behind an offset and the size of its blocks.
        order, sound, before = ("<", b"data", 0) if head[:4] == b"RIFF" else (">", b"SSND", 8)
        chunks = (chunk for chunk in riff_chunks(file, size, order) if chunk[0] == sound)
        found = next(((at + before, length - before * (length > before)) for _, at, length in chunks), None)
    elif head[:4] == b".snd":
        # AU: magic, offset of the sound, its length, all in 32 bits.
        found = int.from_bytes(head[4:8], "big"), int.from_bytes(head[8:12], "big")
    elif head[:4] == b"caff":
        found = next(_long_chunks(file, 8, size, ">4sQ", b"data", 0), None)
    elif head[:4] == b"riff":
        # W64 counts the 24 bytes of a chunk's head, and fills up to multiples of eight.
        found = next(_long_chunks(file, 40, size, "<16sQ", _W64_DATA, 24), None)
    return found if found and found[1] not in _UNKNOWN_LENGTHS else None


def _long_chunks(
    file: BinaryIO, start: int, size: int, form: str, wanted: bytes, counted: int
) -> Iterator[tuple[int, int]]:
    """Offset and length of the chunks of a name whose lengths have 64 bits and count so much of their heads."""
    at, head_bytes = start, struct.calcsize(form)
    for _ in range(_MOST_CHUNKS):
        if at + head_bytes > size:
            return
        file.seek(at)
        head = file.read(head_bytes)
        name, length = struct.unpack(form, head)
        if name == wanted:
            yield at + head_bytes, length - counted if length not in _UNKNOWN_LENGTHS else length
        at += max(length - counted, 0) + head_bytes
        at += -at % 8 if counted else 0


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
    if _boxes_end(path) <= path.stat().st_size and stream.frames and _holds_chunks(path, stream):
        return Length(samples=samples, stated=samples, bitrate_bps=bitrate, bitrate_mode="variable")
    counted = _counted_length(path, stream)
    return Length(
        samples=min(counted.samples, samples), stated=samples, whole=False, bitrate_bps=bitrate, bitrate_mode="variable"
    )


def _track(file: BinaryIO, stream: Any) -> tuple[tuple[int, int], tuple[int, int]] | None:
    """The movie's box and that of a sound's track; None where the file has other ideas of its tracks."""
    sounds = [sound.index for sound in stream.container.streams.audio]
    movie = box_inside(file, (0, file.seek(0, io.SEEK_END)), b"moov")
    tracks = (list_boxes(file, *movie) or {}).get(b"trak", []) if movie else []
    heard = [track for track in tracks if _content(file, track, b"mdia", b"hdlr")[8:12] == b"soun"]
    return (movie, heard[sounds.index(stream.index)]) if movie and len(heard) == len(sounds) else None


def _holds_chunks(path: Path, stream: Any) -> bool:
    with path.open("rb") as file:
        found = _track(file, stream)
        return found is None or chunks_inside(file, found[1])


def chunks_inside(file: BinaryIO, track: tuple[int, int]) -> bool:
    """Whether the track's last chunk begins inside the file (ISO/IEC 14496-12, 8.7.5). True where none is stated."""
    size = file.seek(0, io.SEEK_END)
    for name, width in ((b"stco", 4), (b"co64", 8)):
        box = box_inside(file, track, b"mdia", b"minf", b"stbl", name)
        if box is not None and box[1] - box[0] >= 8 + width:
            file.seek(box[1] - width)
            return int.from_bytes(file.read(width), "big") < size
    return True


def _edited_samples(path: Path, stream: Any) -> int | None:
    """Samples of a track with one edit, None for any other (ISO/IEC 14496-12, 8.6.6).

    The edit's length is stated in ticks of the film, often thousandths of a second, and so is rounded.
    Where the track's own length agrees with it to a tick, that is the exact one.
    """
    with path.open("rb") as file:
        found = _track(file, stream)
        if found is None:
            return None
        movie, track = found
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


def lacks_index(path: Path) -> bool:
    """Whether this is an MP4 without the box that says where its sound is, or a CAF without its packets' table."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(12)
            if head[:4] == b"caff":
                sound = _stated_sound(file, size)
                return sound is not None and sum(sound) > size
            return head[4:8] == b"ftyp" and b"moov" not in _top_boxes(file, size)
    except OSError:
        return False


def _top_boxes(file: BinaryIO, size: int) -> set[bytes]:
    """Names of the boxes at the top, as far as they go."""
    names, at = set(), 0
    for _ in range(_MOST_CHUNKS):
        if at + 8 > size:
            break
        file.seek(at)
        head = file.read(16)
        length = int.from_bytes(head[:4], "big")
        length = int.from_bytes(head[8:16], "big") if length == 1 else length
        if len(head) < 8 or length < 8:
            break
        names.add(head[4:8])
        at += length
    return names


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
        size = path.stat().st_size
        length = mp3_length(file, size)
        stated = _first_frame(file)
    if length is not None:
        return length
    counted = _counted_length(path, stream)
    promise = stated and stated[2] and stated[2].frames and _stated_mp3_length(stated[2], stated[1]).samples
    # Decoders differ by their own delay in what they make of the ends.
    if stated and promise and promise > counted.samples + 2 * stated[1].samples:
        return replace(counted, stated=promise, whole=False)
    return counted


def _first_frame(file: BinaryIO) -> tuple[int, FrameHeader, InfoFrame | None] | None:
    """Where the first frame is, its header, and what it states if it is an information frame."""
    start = after_id3(file)
    file.seek(start)
    window = file.read(65_536)
    offset = find_first_frame(window)
    first = parse_header(window[offset : offset + 4]) if offset is not None else None
    if offset is None or first is None:
        return None
    return start + offset, first, parse_info_frame(window[offset : offset + first.size_bytes])


def mp3_length(file: BinaryIO, size_bytes: int) -> Length | None:
    """The information frame where the file bears it out, else a walk over every frame header.

    None where only decoding tells: without frames, with other things between them, or where more is
    said to be padding than there is.
    """
    found = _first_frame(file)
    if found is None:
        return None
    start, first, info = found
    end = _before_tail_tags(file, size_bytes)
    if info is not None and info.frames and info.stream_bytes:
        # Some count the information frame and some do not; joined files hold more than the first one states.
        over_bytes = end - start - info.stream_bytes
        if min(abs(over_bytes), abs(over_bytes - first.size_bytes)) <= _FRAME_SLACK_BYTES:
            stated = _stated_mp3_length(info, first)
            return stated if stated.samples > 0 else None
    return _walked_mp3_length(file, start, end, first, info)


_FRAME_SLACK_BYTES = 16
_TAIL_MARKS = (b"APETAGEX", b"ID3", b"TAG", b"LYRICSBEGIN")


def _walked_mp3_length(
    file: BinaryIO, start: int, end: int, first: FrameHeader, info: InfoFrame | None
) -> Length | None:
    begun = start if info is None else start + first.size_bytes
    frames = list(walk_frames(file, begun, end))
    if not frames:
        return None
    last_at, last = frames[-1]
    file.seek(last_at + last.size_bytes)
    rest = file.read(max(0, end - last_at - last.size_bytes))
    begins_another = parse_header(rest[:4])
    cut = begins_another is not None and begins_another.stream_key == first.stream_key
    if info is not None and info.frames == len(frames):
        # All that is stated is there; whatever else follows is no sound of this stream.
        stated_length = _stated_mp3_length(info, first)
        return stated_length if stated_length.samples > 0 else None
    if rest.strip(b"\0") and not cut and not rest.startswith(_TAIL_MARKS):
        return None
    rates = {header.bitrate_kbps for _, header in frames}
    samples = len(frames) * first.samples
    sound_bytes = sum(header.size_bytes for _, header in frames)
    stated = None
    if info is not None and info.frames:
        stated = _stated_mp3_length(info, first).samples
        samples = max(0, samples - (info.delay_samples or 0) - DECODER_DELAY_SAMPLES)
    # A joined file holds more than its first information frame states, and is whole nevertheless.
    return Length(
        samples=samples,
        stated=stated if stated is not None and stated > samples else None,
        whole=not cut and (stated is None or samples >= stated),
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
    """Where the sound ends before ID3v1, APE and Lyrics3 tags (common practice)."""
    end = size
    for _ in range(_MOST_TAIL_TAGS):
        file.seek(max(0, end - 160))
        tail = file.read(min(end, 160))
        taken = 0
        if len(tail) >= 128 and tail[-128:-125] == b"TAG":
            taken = 128
        elif len(tail) >= 32 and tail[-32:-24] == b"APETAGEX":
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


_MOST_TAIL_TAGS = 4


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


_DSF_COUNT_AT = 28 + 36
_DSF_SAMPLES_A_BYTE = 8


def _dsf_length(path: Path, stream: Any) -> Length:
    """The format chunk states the one bit samples; the last block is filled up (from memory).

    FFmpeg decodes eight of them to one, so a length here is an eighth.
    """
    counted = _counted_length(path, stream)
    with path.open("rb") as file:
        file.seek(_DSF_COUNT_AT)
        stated = int.from_bytes(file.read(8), "little") // _DSF_SAMPLES_A_BYTE
    return replace(counted, samples=min(stated, counted.samples), stated=stated, whole=counted.samples >= stated)


def _matroska_end(file: BinaryIO) -> int | None:
    """Where the segment ends by its own size (RFC 8794, 4 and 5; RFC 9559, 5); None for one of unknown size."""
    at = 0
    for wanted in (b"\x1a\x45\xdf\xa3", b"\x18\x53\x80\x67"):
        file.seek(at)
        head = file.read(12)
        if head[:4] != wanted or len(head) < 12 or not head[4]:
            return None
        width = 9 - head[4].bit_length()
        length = int.from_bytes(head[4 : 4 + width], "big") & (1 << 7 * width) - 1
        if length == (1 << 7 * width) - 1:
            return None
        at += 4 + width + length
    return at


def _avi_end(file: BinaryIO) -> int | None:
    head = file.read(8)
    return int.from_bytes(head[4:8], "little") + 8 if head[:4] == b"RIFF" else None


_ASF_FILE_PROPERTIES = bytes.fromhex("a1dcab8c47a9cf118ee400c00c205365")


def _asf_end(file: BinaryIO) -> int | None:
    """The file size in the file properties object, behind its name, size and a name of the file (from memory)."""
    head = file.read(4096)
    at = head.find(_ASF_FILE_PROPERTIES)
    return int.from_bytes(head[at + 40 : at + 48], "little") or None if at != -1 else None


def _plain_end(file: BinaryIO) -> int | None:
    sound = _stated_sound(file, file.seek(0, io.SEEK_END))
    return sum(sound) if sound else None


_ENDS: dict[str, Callable[[BinaryIO], int | None]] = {
    "matroska": _matroska_end,
    "avi": _avi_end,
    "asf": _asf_end,
    "caf": _plain_end,
}
# Their headers state the samples.
_STATED = frozenset({"wavpack", "tta", "ape", "tak", "musepack"})


def _checked_length(path: Path, stream: Any) -> Length:
    """Counted, and held against what the file says of itself."""
    counted = _counted_length(path, stream)
    key, rate = container_for(stream.container.format.name).key, stream.codec_context.sample_rate
    if key in _STATED and stream.duration is not None:
        stated = round(stream.duration * stream.time_base * rate)
        return replace(counted, stated=stated, whole=counted.whole and counted.samples >= stated)
    if key in _ENDS:
        with path.open("rb") as file:
            end = _ENDS[key](file)
        if end is not None and end > path.stat().st_size:
            seconds = (stream.container.duration or 0) / av.time_base
            stated = round(seconds * rate)
            # Some lengths are worked out from what is there, and promise nothing.
            return replace(counted, stated=stated if stated > counted.samples + rate else None, whole=False)
    return counted


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
    "dsf": _dsf_length,
}


def length_reader(container: str) -> LengthReader:
    """The reader for a container key; what any other holds is decoded and counted."""
    return _READERS.get(container, _checked_length)
