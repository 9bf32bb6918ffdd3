"""What broadcast WAV states beside its sound: the bext chunk (EBU Tech 3285, from memory) and iXML (its public
specification, from memory). Kept between WAV, RF64 and W64, made true where the sound was changed."""

import io
import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO
from xml.etree.ElementTree import Element, ParseError, SubElement, tostring

import defusedxml.ElementTree
from defusedxml import DefusedXmlException

from rumbrel.core.containers.chunks import add_chunks, list_chunks, w64_chunks, w64_name

from .unwritten import tags_not_written

__all__ = ["BROADCAST_CONTAINERS", "SoundChange", "broadcast_names", "keep_broadcast", "read_broadcast"]

BROADCAST_CONTAINERS = ("wav", "rf64", "w64")
_NAMES = (b"bext", b"iXML")
_LARGEST_BYTES = 16 * 1024 * 1024


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundChange:
    """What became of the sound: its first sample that is in the result, at the source's rate; the result's rate, its
    depth (0 for floating point) and channels; and whether levels are others than before."""

    start_sample: int
    source_rate: int
    sample_rate: int
    depth_bits: int
    channels: int
    louder: bool


def _chunks(file: BinaryIO) -> Iterator[tuple[bytes, int, int]]:
    """The chunks that we keep, of RIFF, RF64 or W64."""
    size_bytes = file.seek(0, io.SEEK_END)
    file.seek(0)
    if file.read(4) == b"riff":
        names = {w64_name(name): name for name in _NAMES}
        found = [(names.get(name, b""), at, length) for name, at, length in w64_chunks(file, size_bytes)]
    else:
        found = list_chunks(file)
    for name, at, length in found:
        if name in _NAMES and 0 < length <= _LARGEST_BYTES and at + length <= size_bytes:
            yield name, at, length


def broadcast_names(path: Path) -> tuple[str, ...]:
    """Which of the chunks a file has."""
    with path.open("rb") as file:
        return tuple(dict.fromkeys(name.decode() for name, _, _ in _chunks(file)))


def read_broadcast(path: Path) -> dict[bytes, bytes]:
    """The chunks by their names, the first of each."""
    found: dict[bytes, bytes] = {}
    with path.open("rb") as file:
        for name, at, length in list(_chunks(file)):
            file.seek(at)
            found.setdefault(name, file.read(length))
    return found


def keep_broadcast(source: Path, result: Path, change: SoundChange) -> tuple[str, ...]:
    """Append the source's chunks to a finished result. Returns the names of those that are too broken to be kept.

    Raises TagError when the result cannot be written.
    """
    kept: dict[bytes, bytes] = {}
    broken = []
    try:
        for name, body in read_broadcast(source).items():
            adapted = _bext(body, change) if name == b"bext" else _ixml(body, change)
            if adapted is None:
                broken.append(name.decode())
            else:
                kept[name] = adapted
        if kept:
            add_chunks(result, kept)
    except OSError as error:
        raise tags_not_written(result, error) from error
    return tuple(broken)


_FIXED_BYTES = 602
_TIME_AT, _VERSION_AT, _LOUDNESS_AT = 338, 346, 412
_LOUDNESS_FIELDS = 5
_NO_LOUDNESS = 0x7FFF
"""What each of the loudness fields states where nothing is known (EBU Tech 3285, version 2)."""
_MODES = {1: "mono", 2: "stereo"}


def _bext(body: bytes, change: SoundChange) -> bytes | None:
    """The first sample's time moved, loudness that is no longer true taken out, and a line of coding history."""
    if len(body) < _FIXED_BYTES:
        return None
    out = bytearray(body)
    first = struct.unpack_from("<Q", out, _TIME_AT)[0]
    struct.pack_into("<Q", out, _TIME_AT, _moved(first, change))
    if change.louder and struct.unpack_from("<H", out, _VERSION_AT)[0] >= 2:
        struct.pack_into(f"<{_LOUDNESS_FIELDS}H", out, _LOUDNESS_AT, *[_NO_LOUDNESS] * _LOUDNESS_FIELDS)
    history = bytes(out[_FIXED_BYTES:]).rstrip(b"\0")
    if history and not history.endswith(b"\r\n"):
        history += b"\r\n"
    return bytes(out[:_FIXED_BYTES]) + history + _history_line(change).encode()


def _history_line(change: SoundChange) -> str:
    """EBU R 98, from memory: coding, rate, depth and mode, each with its letter."""
    depth = f",W={change.depth_bits}" if change.depth_bits else ""
    mode = _MODES.get(change.channels, f"{change.channels} channels")
    return f"A=PCM,F={change.sample_rate}{depth},M={mode},T=Rumbrel\r\n"


def _moved(first: int, change: SoundChange) -> int:
    """A time in samples since midnight, at the result's rate."""
    moved = first + change.start_sample
    return min((moved * change.sample_rate + change.source_rate // 2) // change.source_rate, (1 << 64) - 1)


def _ixml(body: bytes, change: SoundChange) -> bytes | None:
    """As it is where it stays true, else with its rates, its depth and its time put right."""
    try:
        root: Element = defusedxml.ElementTree.fromstring(body.rstrip(b"\0"))
    except (ParseError, DefusedXmlException, ValueError):
        return None
    speed = root.find("SPEED")
    if speed is None:
        return body
    stated = {each.tag: (each.text or "").strip() for each in speed}
    wanted = dict(_speed(stated, change))
    if all(stated.get(name) == value for name, value in wanted.items()):
        return body
    for name, value in wanted.items():
        found = speed.find(name)
        (SubElement(speed, name) if found is None else found).text = value
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + bytes(tostring(root, encoding="utf-8"))


_TIME_HIGH, _TIME_LOW = "TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_HI", "TIMESTAMP_SAMPLES_SINCE_MIDNIGHT_LO"
_RATES = ("FILE_SAMPLE_RATE", "TIMESTAMP_SAMPLE_RATE")
"""The rate of the digitizer is history and stays."""


def _speed(stated: Mapping[str, str], change: SoundChange) -> Iterator[tuple[str, str]]:
    """What the fields that are there have to say now."""
    for name in _RATES:
        if name in stated:
            yield name, str(change.sample_rate)
    if "AUDIO_BIT_DEPTH" in stated and change.depth_bits:
        yield "AUDIO_BIT_DEPTH", str(change.depth_bits)
    low, high = stated.get(_TIME_LOW, ""), stated.get(_TIME_HIGH, "0")
    if low.isdecimal() and high.isdecimal():
        moved = _moved((int(high) << 32) + int(low), change)
        yield _TIME_LOW, str(moved & 0xFFFFFFFF)
        if _TIME_HIGH in stated or moved >> 32:
            yield _TIME_HIGH, str(moved >> 32)
