"""Encoders of FFmpeg: ALAC, WavPack, Opus, WMA, G.722, and the shared writer AAC builds on."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error
import numpy as np

from rumbrel.core.errors import EncodeError
from rumbrel.core.files import not_written
from rumbrel.core.reasons import is_systems, why_failed
from rumbrel.core.sound.shape import Block, SoundShape

from .settings import EncoderSettings

__all__ = [
    "FramedEncoder",
    "FramedPlan",
    "open_alac",
    "open_g722",
    "open_opus",
    "open_wavpack",
    "open_wma",
]

_LAYOUTS = {1: "mono", 2: "stereo", 3: "3.0", 4: "quad", 5: "5.0", 6: "5.1", 7: "6.1", 8: "7.1"}


@dataclass(frozen=True, slots=True, kw_only=True)
class FramedPlan:
    """FFmpeg's names for what is wanted: muxer, codec, sample format and options."""

    muxer: str
    codec: str
    sample_format: str
    bitrate_bps: int | None = None
    codec_options: Mapping[str, str] = field(default_factory=dict)
    muxer_options: Mapping[str, str] = field(default_factory=dict)


class FramedEncoder:
    """Feeds blocks to an FFmpeg encoder and its packets to a muxer."""

    def __init__(self, path: Path, shape: SoundShape, plan: FramedPlan) -> None:
        self._path, self._shape = path, shape
        self._layout = _LAYOUTS[shape.channels]
        # Frames of eight planes cannot be filled one by one; there FFmpeg takes the channels apart.
        self._planar = plan.sample_format.endswith("p") and shape.channels < 8
        self._format = plan.sample_format if self._planar else plan.sample_format.rstrip("p")
        self._dtype = {"s16": np.int16, "s32": np.int32, "flt": np.float32}[plan.sample_format.rstrip("p")]
        self._pts = 0
        try:
            self._container = av.open(str(path), "w", format=plan.muxer, container_options=dict(plan.muxer_options))
            self._stream: Any = self._container.add_stream(
                plan.codec, rate=shape.sample_rate, layout=self._layout, options=dict(plan.codec_options)
            )
            context: Any = self._stream.codec_context
            context.format = plan.sample_format
            if plan.bitrate_bps is not None:
                context.bit_rate = plan.bitrate_bps
        except (av.error.FFmpegError, ValueError, OSError) as error:
            if is_systems(error):
                raise not_written(path, why_failed(error)) from error
            raise EncodeError(f"The encoder refused these settings: {why_failed(error)}.") from error

    def write(self, block: Block) -> None:
        values = block.astype(self._dtype, copy=False)
        flat = values.T if self._planar else values.reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(flat), format=self._format, layout=self._layout)
        frame.sample_rate = self._shape.sample_rate
        frame.time_base = Fraction(1, self._shape.sample_rate)
        frame.pts = self._pts
        self._pts += len(block)
        self._feed(frame)

    def _feed(self, frame: av.AudioFrame | None) -> None:
        try:
            for packet in self._stream.encode(frame):
                self._container.mux(packet)
        except (av.error.FFmpegError, OSError) as error:
            raise not_written(self._path, why_failed(error)) from error

    def finish(self) -> None:
        self._feed(None)
        try:
            self._container.close()
        except (av.error.FFmpegError, OSError) as error:
            raise not_written(self._path, why_failed(error)) from error

    def abandon(self) -> None:
        try:
            self._container.close()
        except (av.error.FFmpegError, OSError, ValueError):
            # The file is thrown away; that closing it failed as well changes nothing for anybody.
            return


# FFmpeg's way to libopus takes 5 and 7 channels in an order of its own; this undoes it.
_OPUS_ORDER = {5: (0, 1, 4, 2, 3), 7: (0, 1, 4, 3, 5, 2, 6)}


class _OpusEncoder(FramedEncoder):
    def write(self, block: Block) -> None:
        order = _OPUS_ORDER.get(block.shape[1])
        super().write(block if order is None else block[:, order])


_TAIL_SAMPLES = 4096


class _WmaEncoder(FramedEncoder):
    """Silence before and behind: decoders take the first frame for the encoder's delay and pass over it, and
    the encoder keeps its last frames to itself until something pushes them out.

    A frame has 2048 samples, 1024 up to 22.05 kHz; found by encoding single clicks.
    """

    def __init__(self, path: Path, shape: SoundShape, plan: FramedPlan) -> None:
        super().__init__(path, shape, plan)
        self._silence(1024 if shape.sample_rate <= 22_050 else 2048)

    def _silence(self, samples: int) -> None:
        self.write(np.zeros((samples, self._shape.channels), dtype=np.float32))

    def finish(self) -> None:
        self._silence(_TAIL_SAMPLES)
        super().finish()


def _integer_format(shape: SoundShape, planar: bool) -> str:
    return ("s16" if shape.depth_bits <= 16 else "s32") + ("p" if planar else "")


def open_alac(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    plan = FramedPlan(
        muxer="mp4",
        codec="alac",
        sample_format=_integer_format(shape, planar=True),
        muxer_options={"brand": "M4A ", "movflags": "+faststart", "movie_timescale": str(shape.sample_rate)},
    )
    return FramedEncoder(path, shape, plan)


def open_wavpack(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    options = {} if settings.effort is None else {"compression_level": str(settings.effort)}
    kind = _integer_format(shape, planar=True) if shape.depth_bits else "fltp"
    plan = FramedPlan(muxer="wv", codec="wavpack", sample_format=kind, codec_options=options)
    return FramedEncoder(path, shape, plan)


def open_opus(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    bitrate_kbps = settings.bitrate_kbps or 64 * shape.channels
    effort = 10 if settings.effort is None else settings.effort
    options = {"vbr": "off" if settings.mode == "constant" else "on", "compression_level": str(effort)}
    plan = FramedPlan(
        muxer="opus", codec="libopus", sample_format="flt", bitrate_bps=bitrate_kbps * 1000, codec_options=options
    )
    return _OpusEncoder(path, shape, plan)


def open_wma(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    """WMA 2, constant bitrate; whole frames only, so a little silence follows the last sample."""
    bitrate_kbps = settings.bitrate_kbps or 64 * shape.channels
    plan = FramedPlan(muxer="asf", codec="wmav2", sample_format="fltp", bitrate_bps=bitrate_kbps * 1000)
    return _WmaEncoder(path, shape, plan)


def open_g722(path: Path, shape: SoundShape, settings: EncoderSettings) -> FramedEncoder:
    return FramedEncoder(path, shape, FramedPlan(muxer="wav", codec="g722", sample_format="s16"))
