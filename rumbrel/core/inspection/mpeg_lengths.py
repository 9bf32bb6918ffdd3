"""Lengths of MP3 files: from the information frame where the file bears it out, else from every frame."""

from dataclasses import replace
from pathlib import Path
from typing import Any, BinaryIO

from rumbrel.core.containers.id3 import HEAD_BYTES, after_id3, id3_bytes
from rumbrel.core.containers.mpeg_frames import (
    DECODER_DELAY_SAMPLES,
    FrameHeader,
    InfoFrame,
    find_first_frame,
    parse_header,
    parse_info_frame,
    walk_frames,
)
from rumbrel.core.containers.tail_tags import TAIL_MARKS, after_tail_tags, before_tail_tags

from .counting import counted_length
from .facts import Length

__all__ = ["first_frame", "mp3_length", "mp3_links", "mp3_stream_length"]


def mp3_stream_length(path: Path, stream: Any) -> Length:
    with path.open("rb") as file:
        size = path.stat().st_size
        length = mp3_length(file, size)
        stated = first_frame(file)
    if length is not None:
        return length
    counted = counted_length(path, stream)
    promise = stated and stated[2] and stated[2].frames and _stated_mp3_length(stated[2], stated[1]).samples
    # Decoders differ by their own delay in what they make of the ends.
    if stated and promise and promise > counted.samples + 2 * stated[1].samples:
        return replace(counted, stated=promise, whole=False)
    return counted


def first_frame(file: BinaryIO) -> tuple[int, FrameHeader, InfoFrame | None] | None:
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
    found = first_frame(file)
    if found is None:
        return None
    start, first, info = found
    end = before_tail_tags(file, size_bytes)
    if info is not None and info.frames and info.stream_bytes:
        # Some count the information frame and some do not; joined files hold more than the first one states.
        over_bytes = end - start - info.stream_bytes
        if min(abs(over_bytes), abs(over_bytes - first.size_bytes)) <= _FRAME_SLACK_BYTES:
            music_bytes = end - start - first.size_bytes
            stated = _stated_mp3_length(info, _music_header(file, start, first), music_bytes=music_bytes)
            return stated if stated.samples > 0 else None
    return _walked_mp3_length(file, start, end, first, info)


_FRAME_SLACK_BYTES = 16


def _music_header(file: BinaryIO, start: int, info_header: FrameHeader) -> FrameHeader:
    """The header of the first frame that holds sound: the information frame's own has any bitrate and mode."""
    file.seek(start + info_header.size_bytes)
    header = parse_header(file.read(4))
    return header if header is not None and header.stream_key == info_header.stream_key else info_header


def mp3_links(file: BinaryIO, size_bytes: int) -> list[tuple[int, int]]:
    """Byte ranges of files that were joined to one, tags and all; one range where it is one.

    A part begins with its own tags or with an information frame of its own.
    """
    found = first_frame(file)
    if found is None:
        return [(0, size_bytes)]
    start, first, info = found
    end = before_tail_tags(file, size_bytes)
    if (
        info is not None
        and info.stream_bytes
        and end - start - info.stream_bytes <= first.size_bytes + _FRAME_SLACK_BYTES
    ):
        return [(0, size_bytes)]
    starts, at = [0], start
    while at < end:
        after = at
        for offset, header in walk_frames(file, at, end):
            if offset > at and _is_info_frame(file, offset, header):
                starts.append(offset)
            after = offset + header.size_bytes
        tagged = after_tail_tags(file, after)
        file.seek(tagged)
        begins = tagged + id3_bytes(file.read(HEAD_BYTES))
        file.seek(begins)
        if begins == after or begins >= end or parse_header(file.read(4)) is None:
            break
        starts.append(tagged)
        at = begins
    return list(zip(starts, [*starts[1:], size_bytes], strict=True))


def _is_info_frame(file: BinaryIO, at: int, header: FrameHeader) -> bool:
    file.seek(at)
    return parse_info_frame(file.read(header.size_bytes)) is not None


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
        music_bytes = sum(header.size_bytes for _, header in frames)
        stated_length = _stated_mp3_length(info, frames[0][1], music_bytes=music_bytes)
        return stated_length if stated_length.samples > 0 else None
    if rest.strip(b"\0") and not cut and not rest.startswith(TAIL_MARKS):
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
        channel_mode=frames[0][1].mode,
    )


_CONSTANT_SHARE = 0.02


def _stated_mp3_length(info: InfoFrame, first: FrameHeader, *, music_bytes: int = 0) -> Length:
    """first is the header of the first frame with sound; music_bytes are those of all of them, where they are known."""
    frames = info.frames or 0
    samples = frames * first.samples
    if info.delay_samples is not None:
        samples -= info.delay_samples + (info.padding_samples or 0)
    bitrate = round(music_bytes * 8 * first.sample_rate / max(1, frames * first.samples))
    nominal = first.bitrate_kbps * 1000
    # Frames of one size differ by a byte of padding.
    if info.mode == "constant" and (not music_bytes or abs(bitrate - nominal) <= _CONSTANT_SHARE * nominal):
        bitrate = nominal
    return Length(
        samples=samples,
        stated=samples,
        bitrate_bps=bitrate,
        bitrate_mode=info.mode,
        channel_mode=first.mode,
        delay_samples=info.delay_samples,
        padding_samples=info.padding_samples,
    )
