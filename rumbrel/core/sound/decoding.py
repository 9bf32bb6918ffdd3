"""Open a file and read its sound as blocks, through libsndfile for plain PCM and FFmpeg for the rest."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Protocol, Self

import av
import av.error
import numpy as np
import soundfile

from rumbrel.core.errors import DecodeError

from .shape import BLOCK_SAMPLES, Block, SoundShape

__all__ = ["HEADERLESS", "SoundSource", "StreamChoice", "open_sound"]


@dataclass(frozen=True, slots=True, kw_only=True)
class StreamChoice:
    """Which sound of a file to read, and what inspection already knows of it.

    container and depth_bits come from the file's Facts: FFmpeg does not say how many bits of a
    32 bit sample are used. end_sample cuts what a container marks as padding at the end, counted
    with the lead_samples of silence that go before the sound of a film that begins late.
    """

    container: str
    depth_bits: int
    sound_index: int = 0
    end_sample: int | None = None
    lead_samples: int = 0


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

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


# Uncompressed containers go through libsndfile: measured 15 times faster than packet by packet.
_PLAIN_CONTAINERS = frozenset({"wav", "rf64", "w64", "aiff", "caf", "au", "vox", "ulaw", "alaw"})
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
}
HEADERLESS = {"vox": "VOX_ADPCM", "ulaw": "ULAW", "alaw": "ALAW"}
"""Containers that are none: bare telephone samples at 8 kHz, mono (common practice)."""
_HEADERLESS_RATE = 8_000


class _PlainSource(_Closing):
    """PCM, G.711 and simple telephone codings in plain containers, through libsndfile."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        if choice.container in HEADERLESS:
            self._file = soundfile.SoundFile(
                str(path), samplerate=_HEADERLESS_RATE, channels=1, format="RAW", subtype=HEADERLESS[choice.container]
            )
        else:
            self._file = soundfile.SoundFile(str(path))
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
        self.shape = SoundShape(sample_rate=self._file.samplerate, channels=self._file.channels, depth_bits=depth_bits)

    def blocks(self) -> Iterator[Block]:
        try:
            while len(block := self._file.read(BLOCK_SAMPLES, dtype=self._dtype, always_2d=True)):
                yield block
        except soundfile.SoundFileError as error:
            raise DecodeError(f"{self._path.name} could not be read to its end: {error}.") from error

    def lengths(self) -> Iterator[int]:
        return (len(block) for block in self.blocks())

    def close(self) -> None:
        self._file.close()


# FFmpeg sample format: dtype of the block, and what turns the raw values into ours.
_AV_DTYPES = {
    "u8": np.int16,
    "s16": np.int16,
    "s32": np.int32,
    "s64": np.float64,
    "flt": np.float32,
    "dbl": np.float64,
}


_PLACES_KEPT = 100


class _FramedSource(_Closing):
    """Everything else, through FFmpeg; encoder delay is cut as the container states it."""

    def __init__(self, path: Path, choice: StreamChoice) -> None:
        self._path = path
        self._choice = choice
        try:
            self._container = av.open(str(path), metadata_errors="replace")
        except (av.error.FFmpegError, OSError, ValueError) as error:
            raise DecodeError(f"{path.name} cannot be opened as sound: {_reason(error)}.") from error
        sounds = self._container.streams.audio
        if choice.sound_index >= len(sounds):
            self._container.close()
            raise DecodeError(f"{path.name} has no sound stream {choice.sound_index + 1}.")
        self._stream = sounds[choice.sound_index]
        context = self._stream.codec_context
        if context.format is None or not context.sample_rate or not context.channels:
            self._container.close()
            raise DecodeError(f"{path.name} does not say what its sound is made of.")
        self._kind = context.format.packed.name
        self.damaged_at: list[int] = []
        integer = self._kind in ("u8", "s16", "s32")
        fallback = {"u8": 8, "s16": 16, "s32": 24}.get(self._kind, 0)
        self.damaged_packets = 0
        self.shape = SoundShape(
            sample_rate=context.sample_rate,
            channels=context.channels,
            depth_bits=(choice.depth_bits or fallback) if integer else 0,
        )

    def blocks(self) -> Iterator[Block]:
        """Collect the codec's small frames into blocks; damaged packets are counted and passed over."""
        pending: list[Block] = []
        held = 0
        left = self._choice.end_sample
        for silence in self._lead():
            yield silence
            left = None if left is None else left - len(silence)
        for frame in self._frames():
            block = self._block(frame)
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
        for frame in self._frames():
            samples = frame.samples if left is None else min(left, frame.samples)
            yield samples
            if left is not None:
                left -= samples
                if not left:
                    return

    def _lead(self) -> Iterator[Block]:
        left = self._choice.lead_samples
        while left:
            count = min(left, BLOCK_SAMPLES)
            yield np.zeros((count, self.shape.channels), dtype=self.shape.dtype)
            left -= count

    def _frames(self) -> Iterator[av.AudioFrame]:
        # One thread each: the workers already fill the cores.
        self._stream.codec_context.thread_count = 1
        decoded_any = False
        at = self._choice.lead_samples
        try:
            for packet in self._container.demux(self._stream):
                try:
                    frames = packet.decode()
                except av.error.FFmpegError:
                    self.damaged_packets += 1
                    if len(self.damaged_at) < _PLACES_KEPT:
                        self.damaged_at.append(at)
                    continue
                for frame in frames:
                    decoded_any = True
                    at += frame.samples
                    yield frame
        except (av.error.FFmpegError, OSError) as error:
            raise DecodeError(f"{self._path.name} could not be read to its end: {_reason(error)}.") from error
        if not decoded_any and self.damaged_packets:
            raise DecodeError(f"No part of {self._path.name} could be decoded.")

    def _block(self, frame: av.AudioFrame) -> Block:
        if frame.sample_rate != self.shape.sample_rate or len(frame.layout.channels) != self.shape.channels:
            raise DecodeError(
                f"{self._path.name} changes its sample rate or channels on the way; split it before converting."
            )
        values: Block = frame.to_ndarray()
        values = values.T if frame.format.is_planar else values.reshape(-1, self.shape.channels)
        if self._kind == "u8":
            return ((values.astype(np.int16) - 128) << 8).astype(np.int16)
        if self._kind == "s16" and self.shape.depth_bits > 16:
            # The stream promised more bits than this frame carries (24 bit files may hold 16 bit frames).
            return values.astype(np.int32) << 16
        if self._kind == "s32" and self.shape.depth_bits <= 16:
            return (values >> 16).astype(np.int16)
        if self._kind == "s64":
            return values.astype(np.float64) / float(1 << 63)
        return values.astype(_AV_DTYPES[self._kind], copy=False)

    def close(self) -> None:
        self._container.close()


def _reason(error: BaseException) -> str:
    text = getattr(error, "strerror", None) or str(error) or type(error).__name__
    return text[0].lower() + text[1:]


def open_sound(path: Path, choice: StreamChoice) -> SoundSource:
    """Open the chosen sound of a file. Raises DecodeError with a sentence for the user."""
    if not path.is_file():
        raise DecodeError(f"{path.name} is not there any more. Scan its folder again.")
    if choice.container in _PLAIN_CONTAINERS and choice.sound_index == 0:
        try:
            return _PlainSource(path, choice)
        except (soundfile.SoundFileError, LookupError):
            # Not every coding inside a plain container is libsndfile's; FFmpeg has the last word.
            return _FramedSource(path, choice)
    return _FramedSource(path, choice)
