"""Open a file and read its sound as blocks, through libsndfile for plain PCM and FFmpeg for the rest."""

import io
import os
import tempfile
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from types import TracebackType
from typing import Any, Protocol, Self

import av
import av.error
import numpy as np
import soundfile

from rumbrel.core.containers.ac3 import frame_bytes
from rumbrel.core.errors import DecodeError
from rumbrel.core.formats.table import codec_for, codec_row, container_row
from rumbrel.core.reasons import why_failed

from .shape import BLOCK_SAMPLES, Block, SoundShape, speakers_named

__all__ = [
    "DISC_IMAGE",
    "BareSound",
    "FramedPart",
    "Link",
    "SoundSource",
    "StreamChoice",
    "is_plain",
    "link_file",
    "open_sound",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """One of the streams that follow each other in a file: its bytes, and its own end as in StreamChoice."""

    start_byte: int
    end_byte: int
    end_sample: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class BareSound:
    """Where the samples of an uncompressed file lie, whose header states their length wrongly: libsndfile's word
    for their coding, and whether their bytes are in big-endian order."""

    start_byte: int
    end_byte: int
    subtype: str
    sample_rate: int
    channels: int
    big_endian: bool = False


@contextmanager
def link_file(path: Path, start_byte: int, end_byte: int) -> Iterator[Path]:
    """Some bytes of a file as a file of their own, for as long as it is needed."""
    with tempfile.NamedTemporaryFile(suffix=path.suffix) as piece, path.open("rb") as whole:
        whole.seek(start_byte)
        left = end_byte - start_byte
        while left > 0 and (chunk := whole.read(min(left, _COPY_BYTES))):
            piece.write(chunk)
            left -= len(chunk)
        piece.flush()
        yield Path(piece.name)


_COPY_BYTES = 1 << 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Stretch:
    """A part of a file's sound, in its samples: from the first up to the one behind its last, of so many in all."""

    start_sample: int
    end_sample: int
    whole_samples: int

    @property
    def samples(self) -> int:
        return self.end_sample - self.start_sample


@dataclass(frozen=True, slots=True, kw_only=True)
class StreamChoice:
    """Which sound of a file to read, and what inspection already knows of it.

    container and depth_bits come from the file's Facts: FFmpeg does not say how many bits of a
    32 bit sample are used. end_sample cuts what a container marks as padding at the end, counted
    with the lead_samples of silence that go before the sound of a film that begins late. links are streams
    that follow each other in the file and are read as one. bare says where the samples are, where the header
    is not to be believed. stretch leaves all but a part of it out.
    """

    container: str
    depth_bits: int
    sound_index: int = 0
    end_sample: int | None = None
    lead_samples: int = 0
    codec: str = ""
    channels: int = 0
    speakers: tuple[str, ...] = ()
    links: tuple[Link, ...] = ()
    bare: BareSound | None = None
    stretch: Stretch | None = None


class SoundSource(Protocol):
    """A decoder: a shape, then blocks, then how many faulty packets were passed over, and the first places."""

    shape: SoundShape
    damaged_packets: int
    damaged_at: list[int]

    def blocks(self) -> Iterator[Block]:
        """Yield blocks shaped (samples, channels) until the end. Raises DecodeError."""
        ...

    def lengths(self) -> Iterator[int]:
        """Decode as blocks() does, but yield only how many samples came. Raises DecodeError."""
        ...

    def close(self) -> None: ...
    def __enter__(self) -> Self: ...
    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...


class _Closing:
    def close(self) -> None:
        raise NotImplementedError

    def blocks(self) -> Iterator[Block]:
        raise NotImplementedError

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


_PLAIN_SUBTYPES = {
    "PCM_S8": ("int16", 8),
    "PCM_U8": ("int16", 8),
    "PCM_16": ("int16", 16),
    "PCM_24": ("int32", 24),
    "PCM_32": ("int32", 32),
    "FLOAT": ("float32", 0),
    "DOUBLE": ("float64", 0),
    "ULAW": ("int16", 16),
    "ALAW": ("int16", 16),
    "GSM610": ("int16", 16),
    "IMA_ADPCM": ("int16", 16),
    "MS_ADPCM": ("int16", 16),
    "VOX_ADPCM": ("int16", 16),
    "NMS_ADPCM_16": ("int16", 16),
    "NMS_ADPCM_24": ("int16", 16),
    "NMS_ADPCM_32": ("int16", 16),
    "VORBIS": ("float32", 0),
}


def is_plain(subtype: str) -> bool:
    """Whether libsndfile's word for a coding names one that it reads here, with its exact length."""
    return subtype in _PLAIN_SUBTYPES


_BARE_RATE = 8_000
DISC_IMAGE = "disc-image"
"""Bare samples as an audio disc holds them (IEC 60908): 44.1 kHz, 16 bit, stereo, little-endian."""


class _Window(io.RawIOBase):
    """Some bytes of a file, as a file."""

    def __init__(self, path: Path, start_byte: int, end_byte: int) -> None:
        self._file = path.open("rb")
        self._start, self._length, self._at = start_byte, end_byte - start_byte, 0

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        self._at = offset + {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._length}[whence]
        return self._at

    def tell(self) -> int:
        return self._at

    def read(self, size: int = -1) -> bytes:
        left = max(0, self._length - self._at)
        self._file.seek(self._start + self._at)
        piece = self._file.read(left if size < 0 else min(size, left))
        self._at += len(piece)
        return piece

    def readinto(self, buffer: Any) -> int:
        piece = self.read(len(buffer))
        buffer[: len(piece)] = piece
        return len(piece)

    def close(self) -> None:
        self._file.close()
        super().close()


def _open_bare(path: Path, bare: BareSound) -> soundfile.SoundFile:
    return soundfile.SoundFile(
        _Window(path, bare.start_byte, bare.end_byte), samplerate=bare.sample_rate, channels=bare.channels,
        format="RAW", subtype=bare.subtype, endian="BIG" if bare.big_endian else "LITTLE",
    )  # fmt: skip


class _PlainSource(_Closing):
    """PCM, G.711 and simple telephone codings in plain containers, through libsndfile."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        bare = container_row(choice.container).bare
        if choice.bare is not None:
            self._file = _open_bare(path, choice.bare)
        elif choice.container == DISC_IMAGE:
            self._file = soundfile.SoundFile(
                os.fsencode(path), samplerate=44_100, channels=2, format="RAW", subtype="PCM_16", endian="LITTLE"
            )
        elif bare is not None:
            self._file = soundfile.SoundFile(
                os.fsencode(path), samplerate=_BARE_RATE, channels=1, format="RAW", subtype=bare.subtype
            )
        else:
            self._file = soundfile.SoundFile(os.fsencode(path))
        self._path = path
        if self._file.subtype not in _PLAIN_SUBTYPES:
            self._file.close()
            raise LookupError(self._file.subtype)
        self._dtype, depth_bits = _PLAIN_SUBTYPES[self._file.subtype]
        self.damaged_packets = 0
        self.damaged_at: list[int] = []
        # A 24 bit recording may lie in 32 bit samples; the header says so, libsndfile does not.
        if 16 < choice.depth_bits < depth_bits:
            depth_bits = choice.depth_bits
        channels = self._file.channels
        self.shape = SoundShape(
            sample_rate=self._file.samplerate,
            channels=channels,
            depth_bits=depth_bits,
            speakers=choice.speakers if len(choice.speakers) == channels else (),
        )
        self.stated_samples = self._file.frames

    def blocks(self) -> Iterator[Block]:
        try:
            while len(block := self._file.read(BLOCK_SAMPLES, dtype=self._dtype, always_2d=True)):
                yield block
        except soundfile.SoundFileError as error:
            raise DecodeError(f"{self._path.name} could not be read to its end: {why_failed(error)}.") from error

    def lengths(self) -> Iterator[int]:
        return (len(block) for block in self.blocks())

    def begin_at(self, sample: int) -> int:
        """Have what is read begin at a sample; returns where it does."""
        try:
            return int(self._file.seek(min(sample, self._file.frames)))
        except (soundfile.SoundFileError, RuntimeError):
            return 0

    def close(self) -> None:
        self._file.close()


# FFmpeg's integer sample formats: how many bits full scale takes. All others are floating point.
_INTEGER_BITS = {"u8": 8, "s16": 16, "s32": 32}
# Formats whose values are floating point in double precision, or held that way.
_DOUBLE = ("dbl", "s64")


def _as_shaped(values: Block, kind: str, dtype: "np.dtype[np.generic]") -> Block:
    """A frame's values in the element type of the stream, at their level: a frame says by its own format what its
    values mean, whatever the header promised."""
    bits = _INTEGER_BITS.get(kind, 0)
    if kind == "u8":
        values = values.astype(np.int16) - 128
    if not bits:
        if dtype.kind == "f":
            return values.astype(dtype, copy=False)
        info = np.iinfo(dtype.name)
        return np.clip(np.round(values * (info.max + 1.0)), info.min, info.max).astype(dtype)
    if dtype.kind == "f":
        return (values / (1 << (bits - 1))).astype(dtype)
    room = dtype.itemsize * 8 - bits
    values = values.astype(dtype, copy=False) if room >= 0 else values
    return values << room if room > 0 else (values >> -room).astype(dtype, copy=False)


# FFmpeg sample format: what its bytes are.
_RAW_DTYPES = {"u8": np.uint8, "s16": np.int16, "s32": np.int32, "flt": np.float32, "dbl": np.float64}


def _values(frame: av.AudioFrame, kind: str) -> Block:
    """A frame's samples, shaped (samples, channels), taken from its planes: several times faster than by the
    package's own way, which matters where frames are small."""
    dtype, count = _RAW_DTYPES.get(kind), frame.samples
    if dtype is None:
        values: Block = frame.to_ndarray()
        return values.T if frame.format.is_planar else values.reshape(count, -1)
    planes: Any = frame.planes
    if frame.format.is_planar:
        block = np.empty((count, len(planes)), dtype)
        for channel, plane in enumerate(planes):
            block[:, channel] = np.frombuffer(plane, dtype, count)
        return block
    channels = frame.layout.nb_channels
    return np.frombuffer(planes[0], dtype, count * channels).reshape(count, channels).copy()


_PLACES_KEPT = 100
_LONGEST_GAP_SAMPLES = 1 << 22
# Sample formats that frames cannot hand over as arrays, and what holds their values.
_UNKNOWN_TO_NUMPY = {"s64": "dbl"}
_MOST_PLANES = 8
"""Frames of as many planes or more cannot be taken as arrays; only packed ones can."""


def _decoder_options(container: str, codec: str) -> dict[str, str]:
    """What FFmpeg's decoder of a codec has to be asked for, by the container it is in."""
    if codec_row(codec).checksummed:
        return {"err_detect": "crccheck+explode"}
    if codec == "libopus":
        # Else it rounds to 16 bit and limits what lies beyond full scale.
        return {"request_sample_fmt": "flt"}
    if (container, codec) == ("caf", "alac"):
        # The last packet already ends with the sound, and FFmpeg would cut the remainder off it once more.
        return {"flags2": "+skip_manual"}
    return {}


def _decoder(stream: Any, container: str) -> Any:
    """The decoder of a stream, not opened yet: the one that FFmpeg takes, or where a codec has another that keeps more
    of the sound (floating point in place of 16 bit), that one."""
    context = stream.codec_context
    floating = f"{context.name}float"
    row = codec_for(context.name)
    better = row.decoder or (floating if floating in row.ffmpeg_names else "")
    if better:
        context = _other_decoder(context, better)
    context.options = _decoder_options(container, context.name)
    # One thread each: the workers already fill the cores.
    context.thread_count = 1
    return context


def is_cut_frame(codec: str, packet: Any) -> bool:
    """Whether a packet holds less than its own header states, as the last one of a file that was cut short."""
    if codec not in ("ac3", "eac3") or not packet.size:
        return False
    stated = frame_bytes(bytes(packet)[:6])
    return stated is not None and packet.size < stated


def _other_decoder(context: Any, name: str) -> Any:
    """A decoder of that name for the stream of a context."""
    made: Any = av.CodecContext.create(name, "r")
    made.sample_rate, made.layout, made.extradata = context.sample_rate, context.layout, context.extradata
    return made


class FramedPart:
    """A file's frames by FFmpeg, or by one of its decoders, from about a sample on: for a second look at what another
    reader has read. Raises DecodeError, FFmpegError, OSError."""

    def __init__(self, path: Path, choice: StreamChoice, decoder: str) -> None:
        self._container = av.open(
            str(path), format=container_row(choice.container).asked_as or None, metadata_errors="replace"
        )
        self._stream = self._container.streams.audio[choice.sound_index]
        context = self._stream.codec_context
        self._context: Any = _other_decoder(context, decoder) if decoder else context
        self._context.thread_count = 1

    def blocks_from(self, sample: int) -> Iterator[tuple[int, Block]]:
        """Yield (the number of its first sample, block) from a little before a sample on, or from the beginning."""
        rate, unit = self._stream.codec_context.sample_rate, self._stream.time_base
        begin = self._stream.start_time or 0
        if sample > _RUN_UP_SAMPLES and unit is not None:
            self._container.seek(begin + int((sample - _RUN_UP_SAMPLES) / rate / unit), stream=self._stream)
        for frame in self._frames():
            if frame.pts is not None and frame.time_base is not None and unit is not None:
                yield round(float(frame.pts * frame.time_base - begin * unit) * rate), _as_it_is(frame)

    def counted_blocks(self) -> Iterator[tuple[int, Block]]:
        """From the beginning, with places that are counted: where blocks are of several lengths, times err."""
        at = 0
        for frame in self._frames():
            yield at, _as_it_is(frame)
            at += frame.samples

    def _frames(self) -> Iterator[av.AudioFrame]:
        for packet in self._container.demux(self._stream):
            yield from self._context.decode(packet)

    def close(self) -> None:
        self._container.close()


def _as_it_is(frame: av.AudioFrame) -> Block:
    """A frame's values in the smallest of our element types that holds them."""
    kind = frame.format.packed.name
    bits = _INTEGER_BITS.get(kind, 0)
    return _as_shaped(
        _values(frame, kind), kind, np.dtype(np.float64 if not bits else np.int16 if bits <= 16 else np.int32)
    )


_RUN_UP_SAMPLES = 16_384
"""So much before a place decoders begin, to be in step when they reach it."""


class _FramedSource(_Closing):
    """Everything else, through FFmpeg; encoder delay is cut as the container states it."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        self._path = path
        self._choice = choice
        try:
            self._container = av.open(
                str(path), format=container_row(choice.container).asked_as or None, metadata_errors="replace"
            )
        except (av.error.FFmpegError, OSError, ValueError) as error:
            raise DecodeError(f"{path.name} cannot be opened as sound: {why_failed(error)}.") from error
        sounds = self._container.streams.audio
        if choice.sound_index >= len(sounds):
            self._container.close()
            raise DecodeError(f"{path.name} has no sound stream {choice.sound_index + 1}.")
        self._stream = sounds[choice.sound_index]
        context = self._stream.codec_context
        self._packer: av.AudioResampler | None = None
        self.damaged_at: list[int] = []
        self.damaged_packets = 0
        if context.format is None or not context.sample_rate or not context.channels:
            self._container.close()
            raise DecodeError(f"{path.name} does not say what its sound is made of.")
        self._context = _decoder(self._stream, choice.container)
        # What the decoder delivers counts, not what the header promised: only its first frame says that.
        self._decoded = self._frames()
        try:
            first = next(self._decoded, None)
        except DecodeError:
            self._container.close()
            raise
        said: Any = first if isinstance(first, av.AudioFrame) else context
        kind = said.format.packed.name
        fallback = {"u8": 8, "s16": 16, "s32": 24}.get(kind, 0)
        self.shape = SoundShape(
            sample_rate=said.sample_rate,
            channels=said.layout.nb_channels,
            depth_bits=(choice.depth_bits or fallback) if kind in _INTEGER_BITS else 0,
            speakers=speakers_named([channel.name for channel in said.layout.channels]),
        )
        self._dtype = np.dtype(np.float64) if kind in _DOUBLE else self.shape.dtype
        if first is not None:
            self._decoded = chain((first,), self._decoded)

    def blocks(self) -> Iterator[Block]:
        """Collect the codec's small frames into blocks; silence stands where a packet is damaged."""
        pending: list[Block] = []
        held = 0
        left = self._choice.end_sample
        for silence in self._lead():
            yield silence
            left = None if left is None else left - len(silence)
        for frame in self._decoded:
            block = self._silence(frame) if isinstance(frame, int) else self._block(frame)
            if left is not None:
                block = block[:left]
                left -= len(block)
            if len(block):
                pending.append(block)
                held += len(block)
            if held >= BLOCK_SAMPLES:
                yield np.concatenate(pending)
                pending, held = [], 0
            if left == 0:
                break
        if pending:
            yield np.concatenate(pending)

    def lengths(self) -> Iterator[int]:
        """Turning small frames into arrays costs as much as decoding them; counting needs none."""
        left = self._choice.end_sample
        if self._choice.lead_samples:
            yield self._choice.lead_samples
            left = None if left is None else left - self._choice.lead_samples
        for frame in self._decoded:
            length = frame if isinstance(frame, int) else frame.samples
            samples = length if left is None else min(left, length)
            yield samples
            if left is not None:
                left -= samples
                if not left:
                    return

    def _silence(self, samples: int) -> Block:
        return np.zeros((samples, self.shape.channels), dtype=self._dtype)

    def _lead(self) -> Iterator[Block]:
        left = self._choice.lead_samples
        while left:
            count = min(left, BLOCK_SAMPLES)
            yield self._silence(count)
            left -= count

    def _frames(self) -> Iterator[av.AudioFrame | int]:
        """Yield decoded frames, and for a damaged packet the samples it would have held, where it says."""
        decoded_any = False
        at = self._choice.lead_samples
        numbered = self._choice.container == "flac"
        try:
            for packet in self._packets():
                if packet is None:
                    yield from self._damage(at, 0)
                    continue
                if is_cut_frame(self._choice.codec, packet):
                    # Its decoder would make the rest up.
                    yield from self._damage(at, 0)
                    continue
                try:
                    frames = self._context.decode(packet)
                except av.error.FFmpegError:
                    lost = self._lost_samples(packet) if decoded_any else 0
                    yield from self._damage(at, lost)
                    at += lost
                    continue
                for frame in frames:
                    lost = self._gap_samples(frame, at) if decoded_any and numbered else 0
                    if lost:
                        yield from self._damage(at, lost)
                    decoded_any = True
                    at += lost + frame.samples
                    yield frame
        except (av.error.FFmpegError, OSError) as error:
            raise DecodeError(f"{self._path.name} could not be read to its end: {why_failed(error)}.") from error
        if not decoded_any and self.damaged_packets:
            raise DecodeError(f"No part of {self._path.name} could be decoded.")

    def _packets(self) -> Iterator[Any]:
        """Yield packets, and None where something between them is no packet and the rest goes on behind it."""
        came, tries = False, 0
        while True:
            try:
                for packet in self._container.demux(self._stream):
                    came = True
                    yield packet
                return
            except av.error.InvalidDataError:
                tries += 1
                if not came or tries > _PLACES_KEPT:
                    raise
                came = False
            yield None

    def _packed(self, frame: av.AudioFrame, kind: str) -> av.AudioFrame:
        """The same samples with the channels side by side."""
        if self._packer is None:
            self._packer = av.AudioResampler(format=kind, layout=frame.layout, rate=frame.sample_rate)
        packed = self._packer.resample(frame)
        if len(packed) != 1 or packed[0].samples != frame.samples:
            raise DecodeError(f"The {frame.layout.nb_channels} channels of {self._path.name} could not be told apart.")
        return packed[0]

    def _damage(self, at: int, lost: int) -> Iterator[int]:
        self.damaged_packets += 1
        if len(self.damaged_at) < _PLACES_KEPT:
            self.damaged_at.append(at)
        if lost:
            yield lost

    def _gap_samples(self, frame: av.AudioFrame, at: int) -> int:
        """Samples missing before a frame whose number says that it comes later: FLAC numbers its frames."""
        if frame.pts is None or frame.time_base is None:
            return 0
        gap = round(frame.pts * frame.time_base * self.shape.sample_rate) - at
        return gap if 0 < gap <= _LONGEST_GAP_SAMPLES else 0

    def _lost_samples(self, packet: Any) -> int:
        if packet.duration is None or packet.time_base is None:
            return 0
        seconds = float(packet.duration * packet.time_base)
        return min(BLOCK_SAMPLES, max(0, round(seconds * self.shape.sample_rate)))

    def _block(self, frame: av.AudioFrame) -> Block:
        if frame.sample_rate != self.shape.sample_rate or frame.layout.nb_channels != self.shape.channels:
            raise DecodeError(
                f"{self._path.name} changes its sample rate or channels on the way; split it before converting."
            )
        kind = frame.format.packed.name
        if kind in _UNKNOWN_TO_NUMPY or (frame.format.is_planar and self.shape.channels >= _MOST_PLANES):
            frame = self._packed(frame, _UNKNOWN_TO_NUMPY.get(kind, kind))
        return _as_shaped(_values(frame, kind), "dbl" if kind in _UNKNOWN_TO_NUMPY else kind, self._dtype)

    def close(self) -> None:
        self._container.close()


class _FlacSource(_Closing):
    """FLAC through libFLAC while all is well, through FFmpeg from the first damage on."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        self._path, self._choice = path, choice
        self._plain = _PlainSource(path, choice)
        self._framed: _FramedSource | None = None
        self._begin = 0
        self.shape = self._plain.shape
        self.damaged_packets = 0
        self.damaged_at: list[int] = []

    def begin_at(self, sample: int) -> int:
        self._begin = self._plain.begin_at(sample)
        return self._begin

    def blocks(self) -> Iterator[Block]:
        at = self._begin
        try:
            for block in self._plain.blocks():
                at += len(block)
                yield block
        except DecodeError:
            yield from self._rest(at)
            return
        if at < self._plain.stated_samples:
            yield from self._rest(at)

    def _rest(self, start: int) -> Iterator[Block]:
        """What FFmpeg makes of the file behind the samples that are known to be right."""
        self._framed = framed = _FramedSource(self._path, self._choice)
        at = 0
        try:
            for block in framed.blocks():
                part = block[max(0, start - at) :]
                at += len(block)
                if len(part):
                    yield part.astype(self.shape.dtype, copy=False)
        finally:
            # Also where no more of it is wanted.
            self.damaged_packets, self.damaged_at = framed.damaged_packets, framed.damaged_at

    def lengths(self) -> Iterator[int]:
        return (len(block) for block in self.blocks())

    def close(self) -> None:
        self._plain.close()
        if self._framed is not None:
            self._framed.close()


class _LinkedSource(_Closing):
    """Streams that follow each other in one file, each read as a file of its own, one behind the other."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        self._path, self._choice = path, choice
        self.damaged_packets = 0
        self.damaged_at: list[int] = []
        with self._opened(choice.links[0]) as first:
            self.shape = first.shape

    @contextmanager
    def _opened(self, link: Link) -> Iterator[SoundSource]:
        choice = replace(self._choice, links=(), end_sample=link.end_sample)
        try:
            with link_file(self._path, link.start_byte, link.end_byte) as piece, open_sound(piece, choice) as sound:
                yield sound
        except OSError as error:
            raise DecodeError(f"{self._path.name} could not be read: {why_failed(error)}.") from error

    def blocks(self) -> Iterator[Block]:
        at = 0
        for link in self._choice.links:
            with self._opened(link) as sound:
                begun = at
                try:
                    for block in sound.blocks():
                        at += len(block)
                        yield block.astype(self.shape.dtype, copy=False)
                finally:
                    self.damaged_packets += sound.damaged_packets
                    self.damaged_at += [begun + place for place in sound.damaged_at]

    def lengths(self) -> Iterator[int]:
        return (len(block) for block in self.blocks())

    def close(self) -> None:
        """Each link is closed when it has been read."""


class _StretchSource(_Closing):
    """A part of a file's sound. What is damaged elsewhere in the file is not its own."""

    def __init__(self, path: Path, choice: StreamChoice, stretch: Stretch) -> None:
        self._whole = open_sound(path, replace(choice, stretch=None))
        self._stretch = stretch
        self.shape = self._whole.shape
        self.damaged_packets = 0
        self.damaged_at: list[int] = []

    def blocks(self) -> Iterator[Block]:
        yield from self._blocks()
        stretch = self._stretch
        inside = [at for at in self._whole.damaged_at if stretch.start_sample <= at < stretch.end_sample]
        self.damaged_at = [at - stretch.start_sample for at in inside]
        self.damaged_packets = len(inside)

    def _blocks(self) -> Iterator[Block]:
        start, end = self._stretch.start_sample, self._stretch.end_sample
        # Only what knows its samples by their number can begin anywhere.
        at = self._whole.begin_at(start) if isinstance(self._whole, (_PlainSource, _FlacSource)) else 0
        with closing(self._whole.blocks()) as blocks:  # type: ignore[type-var]
            for block in blocks:
                part = block[max(0, start - at) : max(0, end - at)]
                at += len(block)
                if len(part):
                    yield part
                if at >= end:
                    return

    def lengths(self) -> Iterator[int]:
        return (len(block) for block in self.blocks())

    def close(self) -> None:
        self._whole.close()


def open_sound(path: Path, choice: StreamChoice) -> SoundSource:
    """Open the chosen sound of a file. Raises DecodeError with a sentence for the user."""
    if not path.is_file():
        raise DecodeError(f"{path.name} is no longer there. Scan its folder again.")
    if choice.stretch is not None:
        return _StretchSource(path, choice, choice.stretch)
    if choice.links:
        return _LinkedSource(path, choice)
    # FFmpeg takes a Vorbis file of one page to be cut at both ends; the reference decoder does not.
    # It knows the channel orders of mono and stereo only.
    reference = (choice.container, choice.codec) == ("ogg", "vorbis") and choice.channels in (1, 2)
    if choice.container == "flac" and choice.sound_index == 0:
        try:
            return _FlacSource(path, choice)
        except (soundfile.SoundFileError, LookupError):
            # Depths that libsndfile does not know.
            return _FramedSource(path, choice)
    # Uncompressed containers go through libsndfile: measured 15 times faster than packet by packet.
    plain = container_row(choice.container).plain or choice.container == DISC_IMAGE
    if (plain or reference) and choice.sound_index == 0:
        try:
            return _PlainSource(path, choice)
        except (soundfile.SoundFileError, LookupError):
            # Not every coding inside a plain container is libsndfile's; FFmpeg has the last word.
            return _FramedSource(path, choice)
    return _FramedSource(path, choice)
