"""Lengths of sound in MP4 files (ISO/IEC 14496-12): from edits and the track's own length."""

import io
import struct
from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO

from rumbrel.core.containers.mp4 import box_content, box_inside, list_boxes, top_boxes

from .counting import counted_length
from .facts import Length

__all__ = ["chunks_inside", "m4a_stream_length"]


def m4a_stream_length(path: Path, stream: Any) -> Length:
    """The track's edited duration, and whether all boxes lie inside the file."""
    rate = stream.codec_context.sample_rate
    if _is_fragmented(path):
        # Its tables are empty by design (ISO/IEC 14496-12, 8.8): it is whole when its last box is.
        counted = counted_length(path, stream)
        whole = counted.whole and _boxes_end(path) <= path.stat().st_size
        return replace(counted, whole=whole, bitrate_mode="variable")
    if stream.duration is None or not rate:
        return counted_length(path, stream)
    samples = _edited_samples(path, stream) or round(stream.duration * stream.time_base * rate)
    bitrate = stream.codec_context.bit_rate or None
    if _boxes_end(path) <= path.stat().st_size and stream.frames and _holds_chunks(path, stream):
        return Length(samples=samples, stated=samples, bitrate_bps=bitrate, bitrate_mode="variable")
    counted = counted_length(path, stream)
    return Length(
        samples=min(counted.samples, samples), stated=samples, whole=False, bitrate_bps=bitrate, bitrate_mode="variable"
    )


def _is_fragmented(path: Path) -> bool:
    with path.open("rb") as file:
        return any(name == b"moof" for name, _, _ in top_boxes(file))


def _boxes_end(path: Path) -> int:
    """Where the last box at the top ends by its own statement."""
    with path.open("rb") as file:
        return max((end for _, _, end in top_boxes(file)), default=0)


def _track(file: BinaryIO, stream: Any) -> tuple[tuple[int, int], tuple[int, int]] | None:
    """The movie's box and that of a sound's track; None where the file has other ideas of its tracks."""
    sounds = [sound.index for sound in stream.container.streams.audio]
    movie = box_inside(file, (0, file.seek(0, io.SEEK_END)), b"moov")
    tracks = (list_boxes(file, *movie) or {}).get(b"trak", []) if movie else []
    heard = [track for track in tracks if box_content(file, track, b"mdia", b"hdlr")[8:12] == b"soun"]
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
        movie_head = box_content(file, movie, b"mvhd")
        media_head = box_content(file, track, b"mdia", b"mdhd")
        edits = box_content(file, track, b"edts", b"elst")
    if min(len(movie_head), len(media_head)) < 20 or len(edits) != 20 or movie_head[0] or media_head[0] or edits[0]:
        return None
    movie_ticks, media_ticks = (int.from_bytes(head[12:16], "big") for head in (movie_head, media_head))
    count, edit_length, start = struct.unpack_from(">IIi", edits, 4)
    if count != 1 or start < 0 or not movie_ticks or media_ticks != stream.codec_context.sample_rate:
        return None
    samples = int.from_bytes(media_head[16:20], "big") - start
    off_ticks = abs(samples * movie_ticks / media_ticks - edit_length)
    return samples if samples > 0 and off_ticks <= 1 else None
