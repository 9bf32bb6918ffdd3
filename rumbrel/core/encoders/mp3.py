"""MP3 by the vector build of its usual encoder, with the information frame added by us."""

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import lameenc
import numpy as np

from rumbrel.core.containers.mpeg_frames import (
    EncoderStatement,
    FrameHeader,
    StreamSummary,
    build_header,
    info_frame_bytes,
    info_frame_size,
    parse_header,
)
from rumbrel.core.errors import OutputError
from rumbrel.core.files import output_errors
from rumbrel.core.sound.shape import Block, SoundShape

from .settings import EncoderSettings

__all__ = [
    "ENCODER_DELAY_SAMPLES",
    "MIDDLE_EFFORT",
    "MP3_BITRATES_KBPS",
    "Mp3Stream",
    "constant_stream_bytes",
    "default_bitrate_kbps",
    "open_mp3",
]

MP3_BITRATES_KBPS = (8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 192, 224, 256, 320)
MIDDLE_EFFORT = 5

ENCODER_DELAY_SAMPLES = 576
"""Samples the encoder puts before the first one it was given; its own constant."""

_EXTRA_SAMPLES = 1152
"""What the encoder needs beyond the sound to bring its last sample out: measured for every rate and length."""


def constant_stream_bytes(samples: int, sample_rate: int, bitrate_kbps: int, *, channels: int) -> int:
    """Bytes of a constant bitrate stream with its information frame.

    The encoder pads a frame by a byte whenever the exact size, floor(144 x bitrate / rate) and a
    rest, has run ahead by one (ISO/IEC 11172-3); it begins with an unpadded frame.
    """
    header = build_header(sample_rate=sample_rate, bitrate_kbps=bitrate_kbps, mono=channels == 1)
    frames = -(-(samples + _EXTRA_SAMPLES) // header.samples)
    bits = header.samples // 8 * bitrate_kbps * 1000
    padded = -(-(frames - 1) * (bits % sample_rate) // sample_rate)
    return frames * header.size_bytes + padded + info_frame_size(header)


def default_bitrate_kbps(sample_rate: int) -> int:
    """The usual middle between quality and space, as far as the rate's version of the standard has it."""
    return 192 if sample_rate >= 32_000 else 96 if sample_rate >= 16_000 else 48


_VBR_OFF, _VBR_AVERAGE, _VBR_QUALITY = 0, 3, 4
_USUAL_VBR_STEP = 4
"""What the encoder states where the bitrate does not vary."""


class Mp3Stream:
    """A file of MP3 frames behind an information frame.

    Frames are scanned as they come, so that the information frame can be filled in at the end. Without one, decoders
    leave nothing out at the beginning.
    """

    def __init__(self, path: Path, *, informed: bool = True) -> None:
        self._path, self._file, self._informed = path, path.open("wb"), informed
        self._tail = b""
        self._first: FrameHeader | None = None
        self._offsets: list[int] = []
        self._bitrates_kbps: set[int] = set()
        self._stream_bytes = 0

    def take(self, coded: bytes) -> None:
        """Cut coded bytes into whole frames, remembering where each begins. Raises OutputError."""
        data = self._tail + coded
        at = 0
        while (header := parse_header(data[at : at + 4])) is not None and at + header.size_bytes <= len(data):
            if self._first is None:
                self._first = header
                if self._informed:
                    self._put(bytes(info_frame_size(header)))
            self._bitrates_kbps.add(header.bitrate_kbps)
            self._offsets.append(self._stream_bytes + at)
            at += header.size_bytes
        self._stream_bytes += at
        self._tail = data[at:]
        self._put(data[:at])

    def _put(self, data: bytes) -> None:
        with output_errors(self._path.parent):
            self._file.write(data)

    def finish(
        self, *, samples: int, delay_samples: int | None, mode: str = "", asked: EncoderStatement | None = None
    ) -> None:
        """State what is in the file; a delay of None says that nothing is known of it. Raises OutputError.

        samples is the sound's length. Without a mode, the frames tell whether the bitrate is constant.
        """
        if self._first is None:
            raise OutputError("There was no sound to encode.")
        if not self._informed:
            with output_errors(self._path.parent):
                self._file.close()
            return
        padding = len(self._offsets) * self._first.samples - (delay_samples or 0) - samples
        summary = StreamSummary(
            first=self._first,
            frames=len(self._offsets),
            stream_bytes=self._stream_bytes,
            frame_offsets=tuple(self._offsets),
            mode=mode or ("constant" if len(self._bitrates_kbps) == 1 else "variable"),
            delay_samples=delay_samples,
            padding_samples=max(0, min(padding, 0xFFF)),
            lowest_bitrate_kbps=min(self._bitrates_kbps),
            asked=asked,
        )
        with output_errors(self._path.parent):
            self._file.seek(0)
            self._file.write(info_frame_bytes(summary))
            self._file.close()

    def close(self) -> None:
        # After the end, or where the file is thrown away; that closing it failed as well changes nothing for anybody.
        with suppress(OSError):
            self._file.close()


class _Mp3Encoder:
    def __init__(self, path: Path, shape: SoundShape, settings: EncoderSettings) -> None:
        self._engine = _engine(shape, settings)
        self._mode = settings.mode or "constant"
        self._asked = _statement(shape, settings)
        self._stream = Mp3Stream(path)
        self._samples = 0
        self._largest = 0

    def write(self, block: Block) -> None:
        self._samples += len(block)
        self._largest = max(self._largest, int(block.max(initial=0)), -int(block.min(initial=0)))
        self._stream.take(bytes(self._engine.encode(np.ascontiguousarray(block, dtype="<i2").tobytes())))

    def finish(self) -> None:
        self._stream.take(bytes(self._engine.flush()))
        asked = replace(self._asked, peak=self._largest / 32_768)
        self._stream.finish(samples=self._samples, delay_samples=ENCODER_DELAY_SAMPLES, mode=self._mode, asked=asked)

    def abandon(self) -> None:
        self._stream.close()


_LOWPASS_HZ = (0, 19_500, 18_500, 18_000, 17_500, 17_000, 16_500, 15_600, 15_200, 7_230)
"""The encoder's edge for each step of a variable bitrate, 0 for none: from memory, and found again in encoded noise."""


def _vbr_step(settings: EncoderSettings) -> float:
    return round((1.0 - (0.6 if settings.quality is None else settings.quality)) * 9.0, 3)


def _statement(shape: SoundShape, settings: EncoderSettings) -> EncoderStatement:
    """The peak is known at the end."""
    varies = settings.mode == "variable"
    step = int(_vbr_step(settings)) if varies else _USUAL_VBR_STEP
    lowpass_hz = _LOWPASS_HZ[step] if varies else 0
    return EncoderStatement(
        bitrate_kbps=None if varies else settings.bitrate_kbps or default_bitrate_kbps(shape.sample_rate),
        vbr_step=step,
        effort=MIDDLE_EFFORT if settings.effort is None else settings.effort,
        lowpass_hz=lowpass_hz if lowpass_hz < shape.sample_rate / 2 else 0,
        peak=0.0,
    )


def _engine(shape: SoundShape, settings: EncoderSettings) -> "lameenc.Encoder":
    engine = lameenc.Encoder()
    engine.silence()
    engine.set_in_sample_rate(shape.sample_rate)
    engine.set_out_sample_rate(shape.sample_rate)
    engine.set_channels(shape.channels)
    engine.set_quality(MIDDLE_EFFORT if settings.effort is None else settings.effort)
    bitrate_kbps = settings.bitrate_kbps or default_bitrate_kbps(shape.sample_rate)
    if settings.mode == "variable":
        engine.set_vbr(_VBR_QUALITY)
        engine.set_vbr_quality(_vbr_step(settings))
    elif settings.mode == "average":
        engine.set_vbr(_VBR_AVERAGE)
        engine.set_vbr_mean_bitrate_kbps(bitrate_kbps)
    else:
        engine.set_vbr(_VBR_OFF)
        engine.set_bit_rate(bitrate_kbps)
    return engine


def open_mp3(path: Path, shape: SoundShape, settings: EncoderSettings) -> _Mp3Encoder:
    return _Mp3Encoder(path, shape, settings)
