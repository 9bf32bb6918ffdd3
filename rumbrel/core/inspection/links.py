"""Files that hold several streams one after another: chained Ogg, MP3 files joined with their tags."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import BinaryIO

from rumbrel.core.containers.ogg import chain_links
from rumbrel.core.sound.decoding import Link, link_file

from .facts import Facts, Fault, FaultCode
from .mpeg_lengths import mp3_links

__all__ = ["inspect_links", "stream_links"]

_FINDERS: tuple[tuple[bytes, Callable[[BinaryIO, int], list[tuple[int, int]]]], ...] = (
    (b"OggS", chain_links),
    (b"ID3", mp3_links),
    (b"\xff\xfb", mp3_links),
    (b"\xff\xfa", mp3_links),
    (b"\xff\xf3", mp3_links),
    (b"\xff\xf2", mp3_links),
)


def stream_links(path: Path, size_bytes: int) -> list[tuple[int, int]]:
    """Byte ranges of the streams of a file; one range where it holds one. Raises OSError."""
    with path.open("rb") as file:
        head = file.read(4)
        for mark, finder in _FINDERS:
            if head.startswith(mark):
                return finder(file, size_bytes)
    return [(0, size_bytes)]


def inspect_links(path: Path, ranges: list[tuple[int, int]], inspect: Callable[[Path], Facts]) -> Facts:
    """Facts of all streams as one sound, as far as they can be joined; inspect is asked about each by itself.

    Tags and what the encoder says are the first one's.
    """
    first: Facts | None = None
    joined: list[Link] = []
    samples, other = 0, None
    for start, end in ranges:
        with link_file(path, start, end) as piece:
            facts = inspect(piece)
        if first is None:
            first = facts
        if not facts.usable or _shape(facts) != _shape(first):
            other = other or (samples, facts)
            continue
        joined.append(Link(start_byte=start, end_byte=end, end_sample=facts.choice().end_sample))
        samples += facts.samples
    assert first is not None
    seconds = samples / first.sample_rate if first.sample_rate else 0.0
    whole = replace(
        first,
        samples=samples,
        stated_samples=samples if first.stated_samples is not None else None,
        bitrate_bps=round(sum(link.end_byte - link.start_byte for link in joined) * 8 / seconds) if seconds else 0,
        links=tuple(joined),
    )
    if other is None:
        return whole
    at, facts = other
    text = (
        f"The file holds {len(ranges)} recordings one after another; what follows {_clock(at, first.sample_rate)} is "
        f"{_said(facts)} and cannot be joined to the first, so it is not read. Split the file to keep it."
    )
    return replace(whole, faults=(*whole.faults, Fault(code=FaultCode.OTHER_PART, text=text)))


def _shape(facts: Facts) -> tuple[str, int, int]:
    return facts.codec, facts.sample_rate, facts.channels


def _said(facts: Facts) -> str:
    if not facts.usable:
        return "not readable"
    return f"{facts.codec} of {facts.channels} channels at {facts.sample_rate / 1000:g} kHz"


def _clock(samples: int, rate: int) -> str:
    minutes, seconds = divmod(round(samples / rate) if rate else 0, 60)
    return f"{minutes} min {seconds} s"
