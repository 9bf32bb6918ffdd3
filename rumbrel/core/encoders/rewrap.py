"""Coded sound moved from one container to another, not a bit of it decoded anew."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from itertools import chain, islice
from pathlib import Path
from typing import Any

import av
import av.error
import xxhash

from rumbrel.core.containers.mpeg_frames import DECODER_DELAY_SAMPLES, parse_header
from rumbrel.core.errors import DecodeError, EncodeError
from rumbrel.core.files import not_written
from rumbrel.core.reasons import why_failed

from .mp3 import Mp3Stream

__all__ = ["CodedSound", "Rewrap", "packets_digest", "rewrap_for", "rewrap_sound", "skipped_at_start"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Rewrap:
    """How a codec is packed into a container; muxer is FFmpeg's, "" for frames that we write ourselves.

    states_length says that the container can tell the sound from the encoder's delay and padding.
    """

    codec: str
    container: str
    suffix: str
    muxer: str
    states_length: bool = True
    options: Mapping[str, str] = field(default_factory=dict)


_M4A = {"brand": "M4A ", "movflags": "+faststart"}
_REWRAPS: tuple[Rewrap, ...] = (
    Rewrap(codec="aac", container="m4a", suffix=".m4a", muxer="mp4", options=_M4A),
    Rewrap(codec="alac", container="m4a", suffix=".m4a", muxer="mp4", options=_M4A),
    Rewrap(codec="aac", container="adts", suffix=".aac", muxer="adts", states_length=False),
    Rewrap(codec="mp3", container="mp3", suffix=".mp3", muxer=""),
    Rewrap(codec="opus", container="ogg", suffix=".opus", muxer="opus"),
    Rewrap(codec="vorbis", container="ogg", suffix=".ogg", muxer="ogg"),
    Rewrap(codec="flac", container="flac", suffix=".flac", muxer="flac"),
    Rewrap(codec="ac3", container="ac3", suffix=".ac3", muxer="ac3", states_length=False),
    Rewrap(codec="eac3", container="ac3", suffix=".eac3", muxer="eac3", states_length=False),
)


# Packets of these carry marks or lack headers, so that other containers do not get whole ones: measured.
_CLOSED_SOURCES = frozenset({"flv", "nut"})
_CLOSED_CODECS = frozenset({("caf", "flac")})


def rewrap_for(codec: str, source: str, containers: tuple[str, ...]) -> Rewrap | None:
    """The first of these containers that the codec can be packed into from a source container."""
    if source in _CLOSED_SOURCES or (source, codec) in _CLOSED_CODECS:
        return None
    for container in containers:
        for row in _REWRAPS:
            if (row.codec, row.container) == (codec, container):
                return row
    return None


@dataclass(frozen=True, slots=True, kw_only=True)
class CodedSound:
    """The sound of a file that is repackaged: samples is its length without delay and padding."""

    path: Path
    index: int
    codec: str
    samples: int


def packets_digest(sound: CodedSound) -> str:
    """A digest of the coded packets themselves, as far as they carry sound. Raises DecodeError."""
    digest = xxhash.xxh3_128()
    with _opened(sound) as reading:
        for packet in reading.demux(reading.streams.audio[sound.index]):
            digest.update(bytes(packet))
    return digest.hexdigest()


def _opened(sound: CodedSound) -> Any:
    try:
        return av.open(str(sound.path), metadata_errors="replace")
    except (av.error.FFmpegError, OSError, ValueError) as error:
        raise DecodeError(f"{sound.path.name} cannot be opened: {error}.") from error


def skipped_at_start(sound: CodedSound) -> int:
    """How many samples the container has decoders skip before the sound begins. Raises DecodeError."""
    with _opened(sound) as reading:
        stream = reading.streams.audio[sound.index]
        return next((_skipped_samples(packet) for packet in reading.demux(stream) if packet.size), 0)


def rewrap_sound(sound: CodedSound, result: Path, row: Rewrap, *, progress: Callable[[float], None]) -> None:
    """Copy every packet of one sound. progress takes seconds. Raises DecodeError, EncodeError, OutputError."""
    with _opened(sound) as reading:
        stream = reading.streams.audio[sound.index]
        clock = _Clock(sound, stream)
        packets = clock.timed(packet for packet in reading.demux(stream) if packet.size)
        try:
            write = _write_packets if row.muxer else _write_frames
            write(packets, clock, result, row, progress)
        except av.error.ArgumentError as error:
            raise EncodeError(f"{sound.path.name} cannot be repackaged: {why_failed(error)}.") from error
        except (av.error.FFmpegError, OSError) as error:
            raise not_written(result, why_failed(error)) from error


class _Clock:
    """Gives packets their exact times: many containers state them in thousandths of a second only."""

    def __init__(self, sound: CodedSound, stream: Any) -> None:
        self.stream = stream
        self.samples = sound.samples
        self.rate = int(stream.codec_context.sample_rate)
        self.delay_samples = 0
        self._samples_of = _PACKET_SAMPLES.get(sound.codec)

    def timed(self, packets: Iterable[Any]) -> Iterator[Any]:
        at, begun = 0, False
        for packet in packets:
            if not begun:
                self.delay_samples, begun = _skipped_samples(packet), True
            if self._samples_of:
                length = self._samples_of(self.stream.codec_context, packet)
                packet.time_base = Fraction(1, self.rate)
                packet.pts = packet.dts = at - self.delay_samples
                # The last packets may reach past the sound; what is padding has no time.
                packet.duration = max(0, min(length, self.delay_samples + self.samples - at))
                at += length
            yield packet


def _skipped_samples(packet: Any) -> int:
    """What the container has decoders skip, as FFmpeg hands it on: two 32 bit numbers, for start and end."""
    for data in packet.iter_sidedata():
        if data.data_type == "skip_samples" and data.buffer_size >= 4:
            return int.from_bytes(bytes(data)[:4], "little")
    return 0


def _frame_samples(context: Any, packet: Any) -> int:
    return int(context.frame_size or 0)


def _aac_samples(context: Any, packet: Any) -> int:
    return int(context.frame_size or _AAC_FRAME_SAMPLES)


_AAC_FRAME_SAMPLES = 1024


def _alac_samples(context: Any, packet: Any) -> int:
    """The frame length that the magic cookie begins with, behind size, name, version and flags."""
    cookie = context.extradata or b""
    return int.from_bytes(cookie[12:16], "big") if len(cookie) >= 36 else 0


# RFC 6716, 3.1: samples at 48 kHz of a frame by the configuration number, four or two a mode and bandwidth.
_OPUS_FRAME_SAMPLES = (480, 960, 1920, 2880) * 3 + (480, 960) * 2 + (120, 240, 480, 960) * 4


def _opus_samples(context: Any, packet: Any) -> int:
    """Frames of a packet times their length, from its first bytes (RFC 6716, 3.1 and 3.2)."""
    head = bytes(packet)[:2]
    code = head[0] & 3
    frames = 1 if code == 0 else 2 if code < 3 else head[1] & 63 if len(head) > 1 else 0
    return _OPUS_FRAME_SAMPLES[head[0] >> 3] * frames


def _decoded_samples(context: Any, packet: Any) -> int:
    """For Vorbis, whose packets say how long they are only together with the setup and their neighbours."""
    try:
        return sum(frame.samples for frame in packet.decode())
    except av.error.FFmpegError as error:
        raise EncodeError("A damaged packet cannot be repackaged. Convert the file instead.") from error


# Others keep the times they came with.
_PACKET_SAMPLES: Mapping[str, Callable[[Any, Any], int]] = {
    "aac": _aac_samples,
    "alac": _alac_samples,
    "flac": _frame_samples,
    "opus": _opus_samples,
    "vorbis": _decoded_samples,
}


def _write_packets(
    packets: Iterable[Any], clock: _Clock, result: Path, row: Rewrap, progress: Callable[[float], None]
) -> None:
    options = dict(row.options)
    if row.muxer == "mp4":
        options["movie_timescale"] = str(clock.rate)
    with av.open(str(result), "w", format=row.muxer, container_options=options) as writing:
        stream = writing.add_stream_from_template(clock.stream)
        for packet in packets:
            if packet.dts is None:
                continue
            progress(float(packet.pts * packet.time_base) if packet.pts is not None else 0.0)
            packet.stream = stream
            writing.mux(packet)


_PACKETS_TO_SEE = 500


def _write_frames(
    packets: Iterable[Any], clock: _Clock, result: Path, row: Rewrap, progress: Callable[[float], None]
) -> None:
    """MP3 with an information frame, which states the encoder's delay where the source's container did. Where it did not
    and the bitrate is constant there is none: one decoder takes any such frame for a reason to leave its own delay out,
    another does not, and neither did with the source."""
    begun = list(islice(packets, _PACKETS_TO_SEE))
    known = clock.delay_samples >= DECODER_DELAY_SAMPLES
    bitrates = {header.bitrate_kbps for packet in begun if (header := parse_header(bytes(packet)[:4]))}
    stream = Mp3Stream(result, informed=known or len(bitrates) > 1)
    try:
        for packet in chain(begun, packets):
            progress(float(packet.pts * packet.time_base) if packet.pts is not None else 0.0)
            stream.take(bytes(packet))
        delay = clock.delay_samples - DECODER_DELAY_SAMPLES if known else None
        stream.finish(samples=clock.samples, delay_samples=delay)
    finally:
        stream.close()
