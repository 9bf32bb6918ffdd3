"""Facts of the common kinds from their headers alone, where that is exact; anything unusual returns None.

Opening a file with FFmpeg decodes its beginning to be sure of it, which for thousands of files is
most of the work. What is left open here is read that way.
"""

import struct
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from rumbrel.core.containers.chunks import UNKNOWN_LENGTHS, W64_DATA, W64_FORMAT, caf_chunks, riff_chunks, w64_chunks
from rumbrel.core.containers.flac import metadata_blocks, stream_info
from rumbrel.core.containers.flac_frames import last_frame_end
from rumbrel.core.containers.id3 import after_id3
from rumbrel.core.containers.mp4 import box_content, list_boxes
from rumbrel.core.containers.mpeg_frames import find_first_frame, parse_header
from rumbrel.core.containers.ogg import last_position, sound_begins
from rumbrel.core.sound.shape import speakers_of_mask

from .facts import Length
from .heading import Heading
from .misstated import CAF_HEAD, IFF_HEAD, NO_HEAD, RIFF_HEAD, W64_HEAD, is_hidden, misstated, within
from .mp4_lengths import chunks_inside
from .mpeg_lengths import mp3_length

__all__ = ["read_heading"]

_TAIL_BYTES = 70_000


def read_heading(path: Path, size_bytes: int) -> Heading | None:
    """The heading of a whole, ordinary file of a common kind, else None. Raises OSError."""
    with path.open("rb") as file:
        head = file.read(4096)
        for mark, at, reader in _READERS:
            if head[at : at + len(mark)] == mark:
                return reader(file, head, size_bytes)
        if head[:1] == b"\xff":
            return _mp3(file, head, size_bytes)
    return None


# Format codes of a RIFF format chunk that are exact from the header: PCM and floating point.
_RIFF_CODECS = {1: "pcm", 3: "pcm-float", 6: "a-law", 7: "mu-law"}


def _wav(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """Also RIFX, which is RIFF with the bytes of every number and every sample in the other order."""
    if head[8:12] != b"WAVE":
        return None
    turned = head[:4] == b"RIFX"
    order, chunk_head = (">", IFF_HEAD) if turned else ("<", RIFF_HEAD)
    form = b""
    for name, at, length in riff_chunks(file, size_bytes, order):
        if name == b"fmt ":
            file.seek(at)
            form = file.read(min(length, 40))
        elif name == b"data" and len(form) >= 16:
            if length in UNKNOWN_LENGTHS or is_hidden(file, at + length, size_bytes, chunk_head):
                return misstated(
                    _wav_heading(form, size_bytes - at, order), at, length, size_bytes=size_bytes, big_endian=turned
                )
            return _wav_heading(form, length, order) if at + length <= size_bytes else None
    return None


def _wav_heading(form: bytes, data_bytes: int, order: str = "<") -> Heading | None:
    code, channels, rate, _, frame_bytes, bits = struct.unpack_from(f"{order}HHIIHH", form)
    valid = bits
    speakers: tuple[str, ...] = ()
    if code == 0xFFFE and len(form) >= 40:
        speakers = speakers_of_mask(struct.unpack_from(f"{order}I", form, 20)[0], channels)
        valid = struct.unpack_from(f"{order}H", form, 18)[0] or bits
        code = struct.unpack_from(f"{order}I", form, 24)[0] & 0xFFFF
    codec = _RIFF_CODECS.get(code)
    if codec is None or not channels or not rate or bits % 8 or frame_bytes != channels * bits // 8 or not data_bytes:
        return None
    if (codec == "pcm" and bits not in (8, 16, 24, 32)) or not 0 < valid <= bits:
        return None
    length = Length(samples=data_bytes // frame_bytes, stated=data_bytes // frame_bytes, bitrate_mode="constant")
    depth = {"pcm": valid if bits == 32 else bits, "pcm-float": None}.get(codec)
    narrower = valid < bits and codec == "pcm"
    return Heading(
        container="wav" if order == "<" else "rifx", codec=codec, sample_rate=rate, channels=channels, bit_depth=depth,
        length=length,
        speakers=speakers, frame_bytes=frame_bytes, valid_bits=valid if narrower and depth != valid else None,
        stored_bits=bits if narrower else None,
    )  # fmt: skip


# Compression kinds of AIFF-C that are exact from the header; plain AIFF names none.
_AIFF_CODECS = {
    b"": "pcm", b"NONE": "pcm", b"sowt": "pcm", b"twos": "pcm", b"fl32": "pcm-float", b"FL32": "pcm-float",
    b"ulaw": "mu-law", b"alaw": "a-law",
}  # fmt: skip
_CODED_BITS = {"pcm-float": 32, "mu-law": 8, "a-law": 8}


def _aiff(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    if head[8:12] not in (b"AIFF", b"AIFC"):
        return None
    common = sound = b""
    sound_bytes = sound_at = 0
    stated_bytes: int | None = None
    for name, at, taken in riff_chunks(file, size_bytes, ">"):
        if at + taken > size_bytes and taken not in UNKNOWN_LENGTHS:
            return None
        if name == b"COMM":
            file.seek(at)
            common = file.read(min(taken, 22))
        elif name == b"SSND":
            sound, sound_bytes, sound_at = name, taken - 8, at + 8
            if taken in UNKNOWN_LENGTHS or is_hidden(file, at + taken, size_bytes, IFF_HEAD):
                # Never finished: what follows is the sound, and no chunk.
                sound_bytes, stated_bytes = size_bytes - sound_at, 0 if taken in UNKNOWN_LENGTHS else sound_bytes
                break
    if len(common) < 18 or not sound:
        return None
    channels, samples, bits = struct.unpack_from(">HIH", common)
    codec, rate = _AIFF_CODECS.get(common[18:22]), _extended(common[8:18])
    little = common[18:22] == b"sowt"
    frame_bytes = channels * (_CODED_BITS.get(codec or "") or bits) // 8
    if stated_bytes is not None and frame_bytes:
        samples = sound_bytes // frame_bytes
    if codec is None or not channels or not samples or not rate or (codec == "pcm" and bits not in (8, 16, 24, 32)):
        return None
    if samples * channels * (_CODED_BITS.get(codec) or bits) // 8 > sound_bytes:
        return None
    length = Length(samples=samples, stated=samples, bitrate_mode="constant")
    depth = bits if codec == "pcm" else None
    heading = Heading(
        container="aiff", codec=codec, sample_rate=rate, channels=channels, bit_depth=depth, length=length,
        frame_bytes=frame_bytes,
    )  # fmt: skip
    return (
        heading
        if stated_bytes is None
        else misstated(heading, sound_at, stated_bytes, size_bytes=size_bytes, big_endian=not little)
    )


_W64_FILLED_BYTES = 8
"""Chunks are filled up to so many: less behind the sound is no chunk."""


def _w64(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """Only what states its length wrongly, and what has more behind its sound, which libsndfile would read as sound: an
    ordinary one is read like any other file."""
    form = b""
    for name, at, length in w64_chunks(file, size_bytes):
        if name == W64_FORMAT:
            file.seek(at)
            form = file.read(min(length, 40))
        elif name == W64_DATA and len(form) >= 16:
            if length <= 0 or length in UNKNOWN_LENGTHS or is_hidden(file, at + length, size_bytes, W64_HEAD):
                heading = _wav_heading(form, size_bytes - at)
                stated = 0 if length in UNKNOWN_LENGTHS else max(0, length)
                return misstated(
                    heading and replace(heading, container="w64"), at, stated, size_bytes=size_bytes, big_endian=False
                )
            heading = _wav_heading(form, length) if at + length + _W64_FILLED_BYTES <= size_bytes else None
            return heading and within(replace(heading, container="w64"), at, big_endian=False)
    return None


def _caf(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """Only what states its length wrongly. That the sound goes on to the end, with no length stated, may be."""
    form = b""
    for name, at, length in caf_chunks(file, size_bytes):
        if name == b"desc" and length >= 32:
            file.seek(at)
            form = file.read(32)
        elif name == b"data" and form:
            if length not in (0, _CAF_EDITS_BYTES) and not is_hidden(file, at + length, size_bytes, CAF_HEAD):
                return None
            rate, coding, flags, frame_bytes, _, channels, bits = struct.unpack(">d4sIIIII", form)
            codec = {b"lpcm": "pcm-float" if flags & 1 else "pcm", b"ulaw": "mu-law", b"alaw": "a-law"}.get(coding)
            at, stated = at + _CAF_EDITS_BYTES, max(0, length - _CAF_EDITS_BYTES)
            heading = _bare_heading("caf", codec, round(rate), channels, bits, size_bytes - at)
            if heading is None or heading.frame_bytes != frame_bytes:
                return None
            return misstated(heading, at, stated, size_bytes=size_bytes, big_endian=not flags & 2)
    return None


_CAF_EDITS_BYTES = 4
"""Before the sound stands how often it was edited."""

# Encoding numbers of AU: codec, and bits of a sample.
_AU_CODECS = {
    1: ("mu-law", 8), 3: ("pcm", 16), 4: ("pcm", 24), 5: ("pcm", 32), 6: ("pcm-float", 32), 7: ("pcm-float", 64),
    27: ("a-law", 8),
}  # fmt: skip


def _au(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """Only what states its length wrongly. All ones say that it is not known, which may be."""
    at, stated, coding, rate, channels = struct.unpack_from(">IIIII", head, 4) if len(head) >= 24 else (0,) * 5
    if not at or (stated and (stated in UNKNOWN_LENGTHS or not is_hidden(file, at + stated, size_bytes, NO_HEAD))):
        return None
    codec, bits = _AU_CODECS.get(coding, (None, 0))
    return misstated(
        _bare_heading("au", codec, rate, channels, bits, size_bytes - at),
        at,
        stated,
        size_bytes=size_bytes,
        big_endian=True,
    )


def _bare_heading(
    container: str, codec: str | None, rate: int, channels: int, bits: int, sound_bytes: int
) -> Heading | None:
    frame_bytes = channels * bits // 8
    if codec is None or not rate or not frame_bytes or bits % 8 or sound_bytes < frame_bytes:
        return None
    length = Length(samples=sound_bytes // frame_bytes, stated=sound_bytes // frame_bytes, bitrate_mode="constant")
    return Heading(
        container=container, codec=codec, sample_rate=rate, channels=channels,
        bit_depth=bits if codec == "pcm" else None, length=length, frame_bytes=frame_bytes,
    )  # fmt: skip


def _extended(raw: bytes) -> int:
    """A whole number of an 80 bit floating point value, as AIFF states its rate; 0 where it is none."""
    exponent, mantissa = int.from_bytes(raw[:2], "big"), int.from_bytes(raw[2:], "big")
    shift = 16383 + 63 - (exponent & 0x7FFF)
    if exponent & 0x8000 or not 0 <= shift < 64 or mantissa & ((1 << shift) - 1):
        return 0
    return mantissa >> shift


def _flac(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """STREAMINFO (RFC 9639, 8.2), believed when the file's last frame ends where it says."""
    info = stream_info(head)
    sound_at = _frames_at(file)
    if info is None or not info.sample_rate or not info.samples or not sound_at:
        return None
    largest = info.largest_frame_bytes or _TAIL_BYTES
    file.seek(max(0, size_bytes - min(largest, 1 << 20) - 16))
    if last_frame_end(file.read(), info.least_block if info.least_block == info.most_block else 0) != info.samples:
        return None
    length = Length(
        samples=info.samples, stated=info.samples, bitrate_mode="variable",
        bitrate_bps=round((size_bytes - sound_at) * 8 * info.sample_rate / info.samples),
    )  # fmt: skip
    return Heading(
        container="flac", codec="flac", sample_rate=info.sample_rate, channels=info.channels,
        bit_depth=info.bit_depth, length=length,
    )  # fmt: skip


def _frames_at(file: BinaryIO) -> int:
    """Where the metadata blocks, pictures among them, lead to a frame; 0 where their lengths are wrong, and decoders find
    no sound."""
    for _, at, length, last in metadata_blocks(file):
        if last:
            file.seek(at + length)
            mark = file.read(2)
            return at + length if len(mark) == 2 and mark[0] == 0xFF and mark[1] & 0xFE == 0xF8 else 0
    return 0


def _mp3(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    start = after_id3(file)
    file.seek(start)
    window = file.read(4096)
    # Anything between the tags and the first frame is for FFmpeg to judge.
    header = parse_header(window[:4])
    if header is None or header.layer != 3 or find_first_frame(window) != 0:
        return None
    length = mp3_length(file, size_bytes)
    if length is None or not length.whole:
        return None
    channels = 1 if header.mode == "mono" else 2
    return Heading(
        container="mp3", codec="mp3", sample_rate=header.sample_rate, channels=channels, bit_depth=None, length=length
    )


def _ogg(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """A single Vorbis or Opus stream (RFC 3533, RFC 7845), whose last page says that it is the last."""
    if len(head) < 64 or not head[5] & 2:
        return None
    body = head[27 + head[26] :]
    if body[:7] == b"\x01vorbis":
        codec, skip = "vorbis", 0
        channels, rate = struct.unpack_from("<BI", body, 11)
    elif body[:8] == b"OpusHead":
        codec, rate = "opus", 48_000
        channels, skip = struct.unpack_from("<BH", body, 9)
    else:
        return None
    second = head.find(b"OggS", 28)
    if second == -1 or head[second + 5] & 2:
        # A second stream begins: pictures, or more sound.
        return None
    position = last_position(file, size_bytes, serial=head[14:18])
    if position is None or not rate or not channels or position <= skip:
        return None
    samples = position - skip
    sound_at = sound_begins(file, size_bytes)
    length = Length(
        samples=samples, stated=samples, bitrate_mode="variable", delay_samples=skip or None,
        bitrate_bps=round((size_bytes - sound_at) * 8 * rate / samples) if sound_at else None,
    )  # fmt: skip
    return Heading(container="ogg", codec=codec, sample_rate=rate, channels=channels, bit_depth=None, length=length)


def _m4a(file: BinaryIO, head: bytes, size_bytes: int) -> Heading | None:
    """One track of AAC or ALAC with an edit list in units of samples, and no chapters."""
    top = list_boxes(file, 0, size_bytes)
    if top is None or len(top.get(b"moov", ())) != 1 or b"moof" in top:
        return None
    movie = top[b"moov"][0]
    parts = list_boxes(file, *movie)
    if parts is None or len(parts.get(b"trak", ())) != 1 or _has_chapters(file, parts):
        return None
    track = parts[b"trak"][0]
    if not chunks_inside(file, track):
        return None
    movie_head = box_content(file, movie, b"mvhd")
    edits = box_content(file, track, b"edts", b"elst")
    media_head = box_content(file, track, b"mdia", b"mdhd")
    entry = box_content(file, track, b"mdia", b"minf", b"stbl", b"stsd")
    if (
        min(len(movie_head), len(media_head)) < 20
        or len(edits) != 20
        or len(entry) < 44
        or movie_head[0]
        or media_head[0]
    ):
        return None
    movie_scale, media_scale = struct.unpack_from(">I", movie_head, 12)[0], struct.unpack_from(">I", media_head, 12)[0]
    count, samples, delay = struct.unpack_from(">IIi", edits, 4)
    if count != 1 or edits[0] or delay < 0 or movie_scale != media_scale or not samples:
        return None
    media_samples = struct.unpack_from(">I", media_head, 16)[0]
    sound_bytes = sum(end - start for start, end in top.get(b"mdat", ()))
    bitrate = round(sound_bytes * 8 * media_scale / max(media_samples, samples))
    return _m4a_heading(entry, media_scale, samples, delay, bitrate)


def _has_chapters(file: BinaryIO, parts: dict[bytes, list[tuple[int, int]]]) -> bool:
    user = parts.get(b"udta", ())
    return any(b"chpl" in (list_boxes(file, *box) or {b"chpl": []}) for box in user)


_MAY_BE_REPLICATED_HZ = 24_000
"""At such rates the frames may hold a second band that only decoding shows, at twice the rate."""


def _m4a_heading(entry: bytes, rate: int, samples: int, delay: int, bitrate: int) -> Heading | None:
    kind = entry[12:16]
    channels = struct.unpack_from(">H", entry, 32)[0]
    stated_rate = struct.unpack_from(">I", entry, 40)[0] >> 16
    depth = None
    if kind == b"alac":
        cookie = entry.find(b"alac", 44)
        if cookie == -1 or len(entry) < cookie + 32:
            return None
        # Magic cookie behind version and flags: depth in its sixth byte, channels in its tenth.
        depth, channels = entry[cookie + 13], entry[cookie + 17]
    elif kind != b"mp4a" or stated_rate != rate or rate <= _MAY_BE_REPLICATED_HZ:
        return None
    length = Length(
        samples=samples, stated=samples, bitrate_bps=bitrate, bitrate_mode="variable", delay_samples=delay or None
    )
    codec = "alac" if kind == b"alac" else "aac"
    return Heading(
        container="m4a", codec=codec, sample_rate=rate, channels=channels, bit_depth=depth, length=length
    )  # fmt: skip


_READERS: tuple[tuple[bytes, int, Callable[[BinaryIO, bytes, int], Heading | None]], ...] = (
    (b"RIFF", 0, _wav),
    (b"RIFX", 0, _wav),
    (b"RF64", 0, _wav),
    (b"riff", 0, _w64),
    (b"caff", 0, _caf),
    (b".snd", 0, _au),
    (b"fLaC", 0, _flac),
    (b"FORM", 0, _aiff),
    (b"OggS", 0, _ogg),
    (b"ftyp", 4, _m4a),
    (b"ID3", 0, _mp3),
)
