"""Facts as the database keeps them: whole, as JSON, with columns derived."""

import json
import os
import re
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from rumbrel.core.formats.table import format_label
from rumbrel.core.inspection import FACTS_VERSION, Facts, Fault
from rumbrel.core.records import as_record, from_record

from .models import DeepLook, Track
from .sentence import tag_bits

__all__ = [
    "KEPT_VERSION",
    "derived_columns",
    "is_of",
    "kept_facts",
    "kept_path",
    "restored_facts",
    "search_words",
    "storable",
    "with_look",
]

_COLUMNS_VERSION = 3
"""Grows with every column that is added or derived in another way."""
KEPT_VERSION = FACTS_VERSION + _COLUMNS_VERSION
"""Of what a row was written by: it grows with either, and rows of an older one are read again in the background."""


def kept_path(path: Path) -> str:
    """A path that the database can hold; two paths that differ in undecodable bytes stay different."""
    return os.fsencode(path).decode("utf-8", "backslashreplace")


def storable(text: str) -> str:
    """Tags may hold lone surrogates and zero bytes, which the database does not take."""
    return text.encode("utf-8", "replace").decode("utf-8").replace("\0", " ")


def kept_facts(facts: Facts) -> str:
    """ASCII only, so that undecodable bytes come back as they were."""
    return json.dumps(as_record(facts), ensure_ascii=True, separators=(",", ":"))


@lru_cache(maxsize=1024)
def restored_facts(data: str) -> Facts:
    """Kept for screens that ask for the same few again with every change, a disc's above all. Raises ValueError, TypeError or KeyError for what another version wrote."""
    return from_record(Facts, json.loads(data))


def search_words(track: Track, facts: Facts) -> str:
    """What the track is found by: its path below the folder and every tag."""
    values = [value for name in facts.tags.fields for value in facts.tags.fields[name]]
    return storable("\n".join([track.relative, track.title, *values]))[:20_000]


def derived_columns(track: Track, facts: Facts) -> Track:
    """The track with its columns as the facts say."""
    first = facts.tags.first
    track.container, track.codec, track.lossless = facts.container, facts.codec, facts.lossless
    track.format = format_label(facts.container, facts.codec) if facts.codec else ""
    track.sample_rate, track.bit_depth, track.channels = facts.sample_rate, facts.bit_depth, facts.channels
    track.samples, track.seconds, track.bitrate_bps = facts.samples, facts.duration_seconds, facts.bitrate_bps
    track.bitrate_mode, track.channel_mode = facts.bitrate_mode, facts.channel_mode
    track.has_video, track.has_lead = facts.has_video, bool(facts.lead_samples)
    track.size_bytes, track.modified_ns = facts.sound_bytes, facts.modified_ns
    # A part of a file is not known again by itself, but with its file.
    track.content_mark = "" if facts.is_part else facts.content_mark
    track.title = storable(first("title")) or Path(track.relative).stem
    track.performer, track.album = storable(first("artist")), storable(first("album"))
    track.tag_bits, track.year = tag_bits(facts), _year(first("date"))
    track.fault = str(facts.faults[0].code) if facts.faults else ""
    track.faults, track.usable, track.whole = len(facts.faults), facts.usable, facts.ok
    track.missing_since, track.facts_version = None, KEPT_VERSION
    return track


def _year(date: str) -> int:
    """0 for what does not begin with one."""
    match = re.match(r"[0-9]{4}(?![0-9])", date)
    return int(match[0]) if match else 0


def is_of(look: DeepLook, file: Facts | Track) -> bool:
    """Whether a look was at the very file that facts, or a track's columns, are about."""
    if isinstance(file, Track) and file.cut_of_id is not None:
        # Its size is that of its part alone.
        return look.modified_ns == file.modified_ns
    return (look.size_bytes, look.modified_ns) == (file.size_bytes, file.modified_ns)


def with_look(facts: Facts, look: DeepLook | None) -> Facts:
    """Facts that were read anew, with the faults that a look at the same file has shown."""
    if look is None or not is_of(look, facts):
        return facts
    shown = [from_record(Fault, record) for record in look.faults]
    kept = tuple(fault for fault in facts.faults if all(fault.code is not other.code for other in shown))
    return replace(facts, faults=(*kept, *shown))
