"""Coded sound moved from one container to another, not a bit of it decoded anew."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import av
import av.error

from rumbrel.core.errors import DecodeError, EncodeError, OutputError

__all__ = ["Rewrap", "rewrap_for", "rewrap_sound"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Rewrap:
    """How a codec is packed into a container."""

    codec: str
    container: str
    suffix: str
    muxer: str
    options: Mapping[str, str] = field(default_factory=dict)


_M4A = {"brand": "M4A ", "movflags": "+faststart"}
_REWRAPS: tuple[Rewrap, ...] = (
    Rewrap(codec="aac", container="m4a", suffix=".m4a", muxer="mp4", options=_M4A),
    Rewrap(codec="alac", container="m4a", suffix=".m4a", muxer="mp4", options=_M4A),
    Rewrap(codec="aac", container="adts", suffix=".aac", muxer="adts"),
    Rewrap(codec="mp3", container="mp3", suffix=".mp3", muxer="mp3"),
    Rewrap(codec="opus", container="ogg", suffix=".opus", muxer="opus"),
    Rewrap(codec="vorbis", container="ogg", suffix=".ogg", muxer="ogg"),
    Rewrap(codec="flac", container="flac", suffix=".flac", muxer="flac"),
    Rewrap(codec="ac3", container="ac3", suffix=".ac3", muxer="ac3"),
    Rewrap(codec="eac3", container="ac3", suffix=".eac3", muxer="eac3"),
)


def rewrap_for(codec: str, containers: tuple[str, ...]) -> Rewrap | None:
    """The first of these containers that the codec can be packed into."""
    for container in containers:
        for row in _REWRAPS:
            if (row.codec, row.container) == (codec, container):
                return row
    return None


def rewrap_sound(
    source: Path, sound_index: int, result: Path, row: Rewrap, *, progress: Callable[[float], None]
) -> None:
    """Copy every packet of one sound. progress takes seconds. Raises DecodeError, EncodeError, OutputError."""
    try:
        reading = av.open(str(source), metadata_errors="replace")
    except (av.error.FFmpegError, OSError, ValueError) as error:
        raise DecodeError(f"{source.name} cannot be opened: {error}.") from error
    with reading:
        sound = reading.streams.audio[sound_index]
        options = dict(row.options)
        if row.muxer == "mp4":
            options["movie_timescale"] = str(sound.codec_context.sample_rate)
        try:
            with av.open(str(result), "w", format=row.muxer, container_options=options) as writing:
                stream = writing.add_stream_from_template(sound)
                for packet in reading.demux(sound):
                    if packet.dts is None:
                        continue
                    progress(float(packet.pts * packet.time_base) if packet.pts is not None else 0.0)
                    packet.stream = stream
                    writing.mux(packet)
        except av.error.ArgumentError as error:
            raise EncodeError(f"{source.name} cannot be packed anew: {error}.") from error
        except (av.error.FFmpegError, OSError) as error:
            raise OutputError(f"The result could not be written: {error.strerror or error}.") from error
