"""Steps and items as screens show them."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from string import ascii_lowercase

from rumbrel.core.forecast import Action, Step
from rumbrel.core.formats.table import format_label
from rumbrel.core.inspection import Facts
from rumbrel.web.targets.rows import target_row
from rumbrel.web.ui.words import ACTION_WORDS, LEVEL_WORDS, WHEN_WORDS

from .wishes import BatchWish, DestinationKind

__all__ = [
    "ForecastRow",
    "WarningRow",
    "after_text",
    "facts_text",
    "forecast_row",
    "now_text",
    "settings_lines",
    "SharedNote",
    "shared_notes",
    "shared_reason",
    "warning_rows",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class ForecastRow:
    """A line of the forecast: facts now and after, sizes in bytes, and why. name is that of the result below the
    folder where all of them go."""

    title: str
    step: Step
    word: str
    now: str
    after: str
    bytes_after: int
    name: str = ""


def forecast_row(step: Step, title: str, wish: BatchWish) -> ForecastRow:
    return ForecastRow(
        title=title,
        step=step,
        word=ACTION_WORDS[step.action].replace("plays", step.target.verb, 1),
        now=now_text(step),
        after=after_text(step),
        bytes_after=step.after.size_bytes if step.after and step.writes else 0,
        name=_shown_name(step, wish.shown_destination),
    )


_LONGEST_SHOWN = 34


def _shown_name(step: Step, folder: str) -> str:
    if not step.output:
        return ""
    path = Path(step.output)
    shown = path.relative_to(folder) if folder and path.is_relative_to(folder) else Path(path.name)
    parts = list(shown.parts)
    # The end of a name tells more than its beginning.
    while len(parts) > 2 and len("/".join(parts)) > _LONGEST_SHOWN:
        parts = ["…", *parts[2 if parts[0] == "…" else 1 :]]
    return "/".join(parts).encode("utf-8", "replace").decode()


@dataclass(frozen=True, slots=True, kw_only=True)
class WarningRow:
    """A kind of warning among lines: its first words, and how many lines have it."""

    code: str
    text: str
    count: int


def warning_rows(steps: Iterable[Step]) -> list[WarningRow]:
    """The commonest first."""
    counts: dict[str, int] = {}
    texts: dict[str, str] = {}
    for step in steps:
        for code, text in {str(warning.code): warning.text for warning in step.warnings}.items():
            counts[code] = counts.get(code, 0) + 1
            texts.setdefault(code, text)
    rows = [WarningRow(code=code, text=texts[code], count=count) for code, count in counts.items()]
    return sorted(rows, key=lambda row: -row.count)


def now_text(step: Step) -> str:
    return facts_text(step.source)


def facts_text(facts: Facts) -> str:
    """What a file is, as the columns of now and after say it."""
    if not facts.codec:
        return "–"
    label = format_label(facts.container, facts.codec)
    return _sound_text(label, facts.sample_rate, facts.bit_depth, facts.bitrate_bps)


def after_text(step: Step) -> str:
    after = step.after
    if after is None or step.action is Action.REFUSE:
        return "–"
    return _sound_text(after.format, after.sample_rate, after.bit_depth, after.bitrate_bps)


def _sound_text(label: str, rate_hz: int, depth_bits: int | None, bitrate_bps: int) -> str:
    depth = f"/{depth_bits}" if depth_bits else ""
    return f"{label} {rate_hz / 1000:g}{depth} {round(bitrate_bps / 1000):,}"


def shared_reason(reasons: list[str]) -> str:
    """The reason that most lines share, said once above them; "" where none is shared by half of them."""
    if len(reasons) < 4:
        return ""
    commonest = max(set(reasons), key=reasons.count)
    return commonest if reasons.count(commonest) * 2 > len(reasons) else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SharedNote:
    """A note that several lines have, said once above them: the lines show its letter."""

    letter: str
    text: str
    lines: int


_LEAST_SHARED = 3


def shared_notes(notes: Sequence[Sequence[str]]) -> tuple[SharedNote, ...]:
    """What at least three lines say, the commonest first; notes are those of each line."""
    counts = Counter(text for line in notes for text in dict.fromkeys(line))
    shared = [(text, lines) for text, lines in counts.most_common(len(ascii_lowercase)) if lines >= _LEAST_SHARED]
    return tuple(
        SharedNote(letter=letter, text=text, lines=lines)
        for letter, (text, lines) in zip(ascii_lowercase, shared, strict=False)
    )


def settings_lines(wish: BatchWish) -> list[tuple[str, str]]:
    """(what, how) of everything that a batch was asked for."""
    lines = [("Target", f"{target.name}: {target_row(target).makes}") for target in wish.targets]
    beside = wish.destination.kind is DestinationKind.BESIDE
    lines += [
        ("Results", "beside the originals" if beside else f"in {wish.shown_destination}"),
        ("Names", wish.pattern or "as each target says"),
        ("If a name exists", "update" if wish.keeps_in_line else WHEN_WORDS[wish.when_present]),
        ("Level", LEVEL_WORDS.get(wish.level.mode or "", "as each target sets it")),
        ("Silence at both ends", "left out" if wish.trims else "kept"),
    ]
    if wish.addition:
        lines.append(("Added to each name", wish.addition))
    own = [choice for choice in wish.choices if not choice.left_out]
    out = len(wish.choices) - len(own)
    if wish.choices:
        lines.append(("Single tracks", f"{len(own):,} with their own settings, {out:,} left out"))
    return lines
