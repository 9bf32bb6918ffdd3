"""Headers of MPEG audio frames and the information frame (ISO/IEC 11172-3 and 13818-3, from memory).

The information frame is a silent first frame whose main data states the number of frames, the
bytes, a seek table, and the encoder's delay and padding, so that players start and end on the
right sample and know the length of a variable bitrate. Its layout is common practice.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import BinaryIO

__all__ = [
    "DECODER_DELAY_SAMPLES",
    "EncoderStatement",
    "FrameHeader",
    "InfoFrame",
    "StreamSummary",
    "build_header",
    "find_first_frame",
    "info_frame_bytes",
    "info_frame_size",
    "parse_header",
    "parse_info_frame",
    "walk_frames",
]

DECODER_DELAY_SAMPLES = 529
"""What a Layer III decoder adds before the first sample: 528 of the filter bank and one."""

_VERSIONS = {0b11: 1, 0b10: 2, 0b00: 25}
_LAYERS = {0b11: 1, 0b10: 2, 0b01: 3}
_RATES = {1: (44100, 48000, 32000), 2: (22050, 24000, 16000), 25: (11025, 12000, 8000)}
_LOW_L1 = (0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256)
_LOW_L23 = (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160)
_BITRATES_KBPS = {
    (1, 1): (0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448),
    (1, 2): (0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384),
    (1, 3): (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    (2, 1): _LOW_L1,
    (2, 2): _LOW_L23,
    (2, 3): _LOW_L23,
}
_MODES = ("stereo", "joint stereo", "dual channel", "mono")


@dataclass(frozen=True, slots=True, kw_only=True)
class FrameHeader:
    """The four bytes every frame begins with."""

    version: int
    layer: int
    bitrate_kbps: int
    sample_rate: int
    padding: int
    mode: str
    raw: bytes

    @property
    def samples(self) -> int:
        if self.layer == 1:
            return 384
        return 1152 if self.layer == 2 or self.version == 1 else 576

    @property
    def size_bytes(self) -> int:
        """floor(144 x bitrate / rate) + padding for 1,152 samples, and so in proportion."""
        if self.layer == 1:
            return (12 * self.bitrate_kbps * 1000 // self.sample_rate + self.padding) * 4
        return self.samples // 8 * self.bitrate_kbps * 1000 // self.sample_rate + self.padding

    @property
    def side_bytes(self) -> int:
        """Length of the Layer III side information."""
        if self.version == 1:
            return 17 if self.mode == "mono" else 32
        return 9 if self.mode == "mono" else 17

    @property
    def stream_key(self) -> tuple[int, int, int]:
        """What stays the same from frame to frame of one stream."""
        return self.version, self.layer, self.sample_rate


@dataclass(frozen=True, slots=True, kw_only=True)
class InfoFrame:
    """What the information frame states; None where it is silent. mode is constant, average or variable; settings are
    the bytes in which an encoder states what it was asked for: quality, method, low-pass, flags and bitrate."""

    mode: str
    frames: int | None
    stream_bytes: int | None
    delay_samples: int | None
    padding_samples: int | None
    version_text: str
    settings: bytes = b""


def parse_header(raw: bytes) -> FrameHeader | None:
    """Read four bytes; None when they are no frame header of a stated bitrate."""
    if len(raw) < 4 or raw[0] != 0xFF or raw[1] & 0xE0 != 0xE0:
        return None
    version = _VERSIONS.get(raw[1] >> 3 & 3)
    layer = _LAYERS.get(raw[1] >> 1 & 3)
    bitrate_index, rate_index = raw[2] >> 4, raw[2] >> 2 & 3
    if version is None or layer is None or bitrate_index in (0, 15) or rate_index == 3:
        return None
    return FrameHeader(
        version=version,
        layer=layer,
        bitrate_kbps=_BITRATES_KBPS[(min(version, 2), layer)][bitrate_index],
        sample_rate=_RATES[version][rate_index],
        padding=raw[2] >> 1 & 1,
        mode=_MODES[raw[3] >> 6],
        raw=bytes(raw[:4]),
    )


@cache
def build_header(*, sample_rate: int, bitrate_kbps: int, mono: bool) -> FrameHeader:
    """The header of a Layer III frame. Raises ValueError where the rate and bitrate do not go together."""
    for version, rates in _RATES.items():
        if sample_rate in rates:
            bits = next(code for code, value in _VERSIONS.items() if value == version)
            index = _BITRATES_KBPS[(min(version, 2), 3)].index(bitrate_kbps)
            mode = _MODES.index("mono") if mono else 0
            raw = bytes([0xFF, 0xE3 | bits << 3, index << 4 | rates.index(sample_rate) << 2, mode << 6])
            header = parse_header(raw)
            if header is not None:
                return header
    raise ValueError(f"no Layer III frame has {sample_rate} Hz and {bitrate_kbps} kbit/s")


def info_frame_size(like: FrameHeader) -> int:
    """Bytes of the information frame of a stream that begins with such a header."""
    return _info_header(like).size_bytes


def find_first_frame(data: bytes, start: int = 0) -> int | None:
    """Offset of the first header that is followed by another of the same stream."""
    at = data.find(b"\xff", start)
    while at != -1 and at + 4 <= len(data):
        header = parse_header(data[at : at + 4])
        if header is not None:
            follower = parse_header(data[at + header.size_bytes : at + header.size_bytes + 4])
            if follower is not None and follower.stream_key == header.stream_key:
                return at
        at = data.find(b"\xff", at + 1)
    return None


def walk_frames(file: BinaryIO, start: int, end: int) -> Iterator[tuple[int, FrameHeader]]:
    """Yield (offset, header) of each whole frame between two byte offsets; stops at what is none."""
    file.seek(start)
    data = file.read(end - start)
    at = 0
    while (header := parse_header(data[at : at + 4])) is not None:
        if at + header.size_bytes > len(data):
            return
        yield start + at, header
        at += header.size_bytes


def parse_info_frame(frame: bytes) -> InfoFrame | None:
    """Read a whole first frame; None when it carries sound."""
    header = parse_header(frame)
    if header is None or header.layer != 3:
        return None
    at = 4 + header.side_bytes
    mark = frame[at : at + 4]
    if frame[36:40] == b"VBRI":
        return _parse_vbri(frame)
    if mark not in (b"Xing", b"Info"):
        return None
    flags = int.from_bytes(frame[at + 4 : at + 8], "big")
    at += 8
    values: dict[int, int] = {}
    for bit, length in ((1, 4), (2, 4), (4, 100), (8, 4)):
        if flags & bit:
            values[bit] = int.from_bytes(frame[at : at + length], "big")
            at += length
    version_text = frame[at : at + 9].split(b"\0")[0].decode("ascii", "replace")
    has_delays = len(frame) >= at + 24 and bool(version_text.strip())
    delays = int.from_bytes(frame[at + 21 : at + 24], "big")
    method = frame[at + 9] & 0x0F if has_delays else 0
    return InfoFrame(
        mode="constant" if mark == b"Info" else _MODE_BY_METHOD.get(method, "variable"),
        frames=values.get(1),
        stream_bytes=values.get(2),
        delay_samples=delays >> 12 if has_delays else None,
        padding_samples=delays & 0xFFF if has_delays else None,
        version_text=version_text,
        settings=frame[at - 4 : at] * (flags >> 3 & 1)
        + frame[at + 9 : at + 11]
        + frame[at + 19 : at + 20]
        + frame[at + 26 : at + 28]
        if has_delays
        else b"",
    )


def _parse_vbri(frame: bytes) -> InfoFrame:
    """The other kind of information frame: always 32 bytes behind the header, lengths in bytes and frames
    after version, delay and quality of two bytes each (common practice)."""
    return InfoFrame(
        mode="variable",
        frames=int.from_bytes(frame[50:54], "big"),
        stream_bytes=int.from_bytes(frame[46:50], "big"),
        delay_samples=None,
        padding_samples=None,
        version_text="",
    )


# The method an encoder states it worked by; two passes have numbers of their own.
_MODE_BY_METHOD = {1: "constant", 2: "average", 8: "constant", 9: "average"}
_METHOD_BY_MODE = {"constant": 1, "average": 2, "variable": 4}
"""4 is the newer search for a variable bitrate, which is the one we use."""


def _crc16(data: bytes) -> int:
    """CRC-16 with polynomial 0x8005, reflected, start 0: what the information frame ends in."""
    crc = 0
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = crc >> 1 ^ (0xA001 if crc & 1 else 0)
    return crc


_INFO_BYTES = 120 + 36


@dataclass(frozen=True, slots=True, kw_only=True)
class EncoderStatement:
    """What the encoder was asked for, as the information frame states it (common practice).

    bitrate_kbps is the one asked for; None with a variable bitrate. vbr_step is its whole step, 0 best to 9 smallest;
    effort the encoder's, 0 to 9. lowpass_hz is 0 where it is not known. peak is the largest value of the sound that was
    encoded, full scale at 1.0.
    """

    bitrate_kbps: int | None
    vbr_step: int
    effort: int
    lowpass_hz: int
    peak: float

    @property
    def quality_mark(self) -> int:
        return 100 - 10 * self.vbr_step - self.effort


@dataclass(frozen=True, slots=True, kw_only=True)
class StreamSummary:
    """What is known when the last frame is written, the information frame not counted.

    delay_samples is the encoder's, None where it is not known: then neither it nor the padding is stated.
    lowest_bitrate_kbps is of the frames. Where asked is None it is not known what the encoder was asked for.
    """

    first: FrameHeader
    frames: int
    stream_bytes: int
    frame_offsets: tuple[int, ...]
    mode: str
    delay_samples: int | None
    padding_samples: int
    lowest_bitrate_kbps: int
    asked: EncoderStatement | None = None


def _info_header(like: FrameHeader) -> FrameHeader:
    """A header as the stream's, at its own bitrate or the next one in which the statement fits."""
    table = _BITRATES_KBPS[(min(like.version, 2), like.layer)]
    for index in range(table.index(like.bitrate_kbps), 15):
        # No CRC (protection bit set), no padding, mode as in the stream.
        raw = bytes([0xFF, like.raw[1] | 1, index << 4 | like.raw[2] & 0x0C, like.raw[3]])
        header = parse_header(raw)
        if header is not None and header.size_bytes >= 4 + header.side_bytes + _INFO_BYTES:
            return header
    raise ValueError("no bitrate of this stream has room for the information frame")


def info_frame_bytes(summary: StreamSummary) -> bytes:
    """The information frame for a finished stream; its length depends only on summary.first.

    The frame count leaves out the information frame, the byte count includes it. The checksum
    over the sound is left at zero, which readers take as not stated.
    """
    header = _info_header(summary.first)
    total = summary.stream_bytes + header.size_bytes
    body = bytearray(header.size_bytes)
    body[:4] = header.raw
    at = 4 + header.side_bytes
    body[at : at + 4] = b"Info" if summary.mode == "constant" else b"Xing"
    body[at + 4 : at + 8] = (0x0F).to_bytes(4, "big")
    body[at + 8 : at + 12] = summary.frames.to_bytes(4, "big")
    body[at + 12 : at + 16] = total.to_bytes(4, "big")
    body[at + 16 : at + 116] = _seek_table(summary, header.size_bytes, total)
    asked = summary.asked
    body[at + 116 : at + 120] = (asked.quality_mark if asked else 0).to_bytes(4, "big")
    at += 120
    if summary.delay_samples is None:
        return bytes(body)
    body[at : at + 9] = b"LAME3.100"
    body[at + 9] = _METHOD_BY_MODE[summary.mode]
    body[at + 20] = min(255, (asked.bitrate_kbps if asked else None) or summary.lowest_bitrate_kbps)
    if asked:
        body[at + 10] = asked.lowpass_hz // 100
        body[at + 11 : at + 15] = round(asked.peak * (1 << 23)).to_bytes(4, "big")
        body[at + 24] = _sound_bits(summary.first)
        # The field of one byte before has no room for more than 255 kbit/s.
        body[at + 26 : at + 28] = (asked.bitrate_kbps or 0).to_bytes(2, "big")
    delays = summary.delay_samples << 12 | summary.padding_samples
    body[at + 21 : at + 24] = delays.to_bytes(3, "big")
    body[at + 28 : at + 32] = total.to_bytes(4, "big")
    end = at + 34
    body[end : end + 2] = _crc16(bytes(body[:end])).to_bytes(2, "big")
    return bytes(body)


_STEREO_MARKS = {"mono": 0, "stereo": 1, "dual channel": 2, "joint stereo": 3}


def _sound_bits(first: FrameHeader) -> int:
    """Two bits for the rate that came in, none for unwise settings, three for the stereo mode, two for noise shaping."""
    rate = 0 if first.sample_rate <= 32_000 else 1 if first.sample_rate == 44_100 else 2
    return rate << 6 | _STEREO_MARKS[first.mode] << 2


def _seek_table(summary: StreamSummary, info_size: int, total: int) -> bytes:
    """For each per cent of the time, the offset in the file in 256ths."""
    offsets = summary.frame_offsets
    points = (info_size + offsets[percent * len(offsets) // 100] for percent in range(100))
    return bytes(min(255, offset * 256 // total) for offset in points)
