"""A file against a target as a specification: every line that it states, with what was measured."""

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.formats.table import format_label
from rumbrel.core.inspection import Facts
from rumbrel.core.places import clean_name, file_system_for
from rumbrel.core.sound.level import Level
from rumbrel.core.verdict import Verdict

from .model import Accepts, Target

__all__ = ["Measured", "SpecLine", "specification_lines", "verdict_of"]

LOUDNESS_TOLERANCE_LU = 0.5
"""EBU R 128 allows as much where a level cannot be met exactly (from memory)."""
PEAK_TOLERANCE_DB = 0.1
"""What a true-peak meter may read too much or too little is 0.2 to 0.4 dB (EBU Tech 3341); ours agrees better."""
LEAST_BELOW_CORNER_DBFS = -60.0
"""Content below half of a high-pass's corner: a second-order filter leaves a twelfth of a decade less (ours)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Measured:
    """What one decode of a file told: level, the level of what lies below half of a high-pass's corner in dBFS (None
    where none is asked for), ID3's version (0 for none), covers as (kind, larger edge in pixels, bytes)."""

    facts: Facts
    decoded_samples: int = 0
    level: Level | None = None
    below_corner_dbfs: float | None = None
    id3_version: int = 0
    covers: tuple[tuple[int, int, int], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class SpecLine:
    """what is a line of the specification, wanted what it states, measured what the file has."""

    what: str
    wanted: str
    measured: str
    verdict: Verdict


def verdict_of(lines: tuple[SpecLine, ...]) -> Verdict:
    """The worst of them."""
    verdicts = {line.verdict for line in lines}
    return next(
        (each for each in (Verdict.FAILED, Verdict.DOUBTFUL) if each in verdicts),
        Verdict.PASSED if lines else Verdict.FAILED,
    )


def specification_lines(found: Measured, target: Target) -> tuple[SpecLine, ...]:
    """Every line that the target states, in the order of its description. Of several kinds that it accepts, the one
    that the file comes nearest to is meant."""
    rows = [tuple(_kind_lines(found.facts, row, strict=target.strict)) for row in target.accepts]
    # One of its own format, whatever else it fails: another format states other things.
    nearest = min(rows, key=lambda lines: [lines[0].verdict is Verdict.FAILED, sum(map(_fails, lines))])
    return (
        *nearest, *_sound_lines(found, target), *_level_lines(found, target), *_tag_lines(found, target),
        *_name_lines(found.facts, target), *_fault_lines(found.facts, target),
    )  # fmt: skip


def _fails(line: SpecLine) -> bool:
    return line.verdict is Verdict.FAILED


def _line(what: str, wanted: str, measured: str, ok: bool) -> SpecLine:
    return SpecLine(what=what, wanted=wanted, measured=measured, verdict=Verdict.PASSED if ok else Verdict.FAILED)


def _either(values: tuple[object, ...], say: Callable[[object], str] = str) -> str:
    words = [say(value) for value in values]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


def _khz(rate: object) -> str:
    return f"{int(str(rate)) / 1000:g}"


def _kind_lines(facts: Facts, row: Accepts, *, strict: bool) -> Iterator[SpecLine]:
    own = format_label(facts.container, facts.codec) if facts.codec else "no sound"
    same = facts.codec == row.codec and facts.container in row.containers
    yield _line("Format", row.format, own, same)
    if row.sample_rates:
        yield _line(
            "Sample rate, kHz", _either(row.sample_rates, _khz), _khz(facts.sample_rate),
            facts.sample_rate in row.sample_rates,
        )  # fmt: skip
    if row.bit_depths and facts.bit_depth is not None:
        yield _line("Bit depth", _either(row.bit_depths), str(facts.bit_depth), facts.bit_depth in row.bit_depths)
    if row.channels:
        yield _line("Channels", _either(row.channels), str(facts.channels), facts.channels in row.channels)
    kbps = facts.bitrate_bps / 1000
    if row.modes:
        yield _line(
            "Bitrate mode", _either(row.modes), facts.bitrate_mode or "not known", facts.bitrate_mode in row.modes
        )
    if row.bitrates_kbps:
        exact = any(abs(kbps - wanted) < 0.5 for wanted in row.bitrates_kbps)
        yield _line("Bitrate, kbit/s", f"exactly {_either(row.bitrates_kbps)}", f"{kbps:.1f}", exact)
    if row.max_bitrate_kbps:
        slack = 1.0 if strict else 1.02
        yield _line(
            "Bitrate, kbit/s", f"at most {row.max_bitrate_kbps}", f"{kbps:.1f}", kbps <= row.max_bitrate_kbps * slack
        )
    if row.channel_modes:
        yield _line(
            "Channel mode", _either(row.channel_modes), facts.channel_mode or "not known",
            facts.channel_mode in row.channel_modes,
        )  # fmt: skip
    if facts.has_video and not row.video:
        yield _line("Pictures", "none", "some", False)


def _sound_lines(found: Measured, target: Target) -> Iterator[SpecLine]:
    facts = found.facts
    whole = found.decoded_samples == facts.samples and found.decoded_samples > 0
    yield _line("Decodes whole, samples", f"{facts.samples:,}", f"{found.decoded_samples:,}", whole)
    corner = target.make.highpass_hz
    if corner is not None and found.below_corner_dbfs is not None:
        loud = found.below_corner_dbfs
        yield _line(
            f"Below {corner / 2:g} Hz, dBFS", f"at most {LEAST_BELOW_CORNER_DBFS:g} (high-pass at {corner:g} Hz)",
            _decibels(loud), loud <= LEAST_BELOW_CORNER_DBFS,
        )  # fmt: skip


def _decibels(value: float) -> str:
    return "silence" if math.isinf(value) else f"{value:.1f}"


def _level_lines(found: Measured, target: Target) -> Iterator[SpecLine]:
    rule, level = target.level, found.level
    if rule.mode not in ("track", "album") or level is None:
        return
    if rule.mode == "track":
        off = abs(level.integrated_lufs - rule.loudness_lufs)
        yield _line(
            "Loudness, LUFS", f"{rule.loudness_lufs:g}, within {LOUDNESS_TOLERANCE_LU:g}",
            _decibels(level.integrated_lufs), off <= LOUDNESS_TOLERANCE_LU,
        )  # fmt: skip
    yield _line(
        "True peak, dBTP", f"at most {rule.ceiling_dbtp:g}", _decibels(level.true_peak_dbtp),
        level.true_peak_dbtp <= rule.ceiling_dbtp + PEAK_TOLERANCE_DB,
    )  # fmt: skip


def _tag_lines(found: Measured, target: Target) -> Iterator[SpecLine]:
    rules, tags = target.tags, found.facts.tags
    if found.id3_version:
        yield _line(
            "ID3 version", f"2.{rules.id3_version}", f"2.{found.id3_version}", found.id3_version == rules.id3_version
        )
    if rules.keep:
        others = [name for name in tags.fields if name not in rules.keep]
        yield _line(
            "Tags", f"only {', '.join(rules.keep)}", f"also {', '.join(others)}" if others else "only these", not others
        )
    if rules.covers != "all":
        most = 1 if rules.covers == "front" else 0
        yield _line("Covers", f"at most {most}" if most else "none", str(len(found.covers)), len(found.covers) <= most)
    if rules.cover_pixels and found.covers:
        largest = max(edge for _, edge, _ in found.covers)
        yield _line("Covers, pixels", f"at most {rules.cover_pixels}", str(largest), largest <= rules.cover_pixels)
    if rules.cover_bytes and found.covers:
        most_bytes = max(size for _, _, size in found.covers)
        yield _line(
            "Covers, bytes", f"at most {rules.cover_bytes:,}", f"{most_bytes:,}", most_bytes <= rules.cover_bytes
        )


def _name_lines(facts: Facts, target: Target) -> Iterator[SpecLine]:
    rule, name = target.names, Path(facts.path).name
    if rule.file_system != "native":
        system = file_system_for(rule.file_system)
        fits = clean_name(Path(name).stem, system) == Path(name).stem
        yield _line("File name", f"as {system.label} takes it", "fits" if fits else "has other characters", fits)
    if rule.longest:
        yield _line("File name, characters", f"at most {rule.longest}", str(len(name)), len(name) <= rule.longest)


def _fault_lines(facts: Facts, target: Target) -> Iterator[SpecLine]:
    counted = facts.faults if target.strict else tuple(fault for fault in facts.faults if not fault.harmless)
    yield _line("Faults", "none", "; ".join(fault.text for fault in counted) or "none", not counted)
