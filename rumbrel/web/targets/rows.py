"""Targets as screens show them."""

from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.figures import figure
from rumbrel.core.forecast.planning import plan_sound
from rumbrel.core.formats.table import container_row
from rumbrel.core.inspection import Facts
from rumbrel.core.places import file_system_for
from rumbrel.core.records import from_record
from rumbrel.core.sound.dither import FLAT, SHAPED_RATES, dither_said
from rumbrel.core.targets import Accepts, FitKind, Target
from rumbrel.core.targets.model import PlayerRule
from rumbrel.core.targets.specification import SpecLine
from rumbrel.web.ui.words import FIT_WORDS

from .models import SpecCheck
from .standing import FIT_KINDS, Standing

__all__ = [
    "AcceptGrid",
    "AcceptRow",
    "accept_grid",
    "made_sentence",
    "HourRow",
    "StandingRow",
    "TargetRow",
    "hour_rows",
    "rule_lines",
    "spec_rows",
    "standing_row",
    "target_row",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetRow:
    """What a target accepts, a line each, and what it makes otherwise."""

    target: Target
    accepts: tuple[str, ...]
    makes: str


def target_row(target: Target) -> TargetRow:
    return TargetRow(target=target, accepts=tuple(_accepted(row) for row in target.accepts), makes=_made(target))


def _accepted(row: Accepts) -> str:
    parts = [row.format]
    if row.sample_rates:
        parts.append("/".join(f"{rate / 1000:g}" for rate in row.sample_rates) + " kHz")
    if row.max_bitrate_kbps:
        parts.append(f"up to {row.max_bitrate_kbps} kbit/s")
    parts += [f"exactly {kbps} kbit/s" for kbps in row.bitrates_kbps]
    return ", ".join(parts)


def _made(target: Target) -> str:
    settings = target.make.settings
    words = [encoding_for(target.make.encoding).label]
    if settings.bitrate_kbps:
        words.append(f"{settings.bitrate_kbps} kbit/s")
    if settings.quality is not None:
        words.append(f"quality {settings.quality:g}")
    if settings.mode:
        words.append(settings.mode)
    text = " ".join(words)
    if target.make.highpass_hz:
        text += f", high-pass {target.make.highpass_hz:g} Hz"
    return text if target.make.dither == FLAT else f"{text}, {dither_said(target.make.dither, SHAPED_RATES[0])}"


def made_sentence(target: Target) -> str:
    """All that is made of what does not fit, with every choice that was set."""
    make = target.make
    rates = _numbers([figure(rate / 1000, "g") for rate in make.sample_rates]) + " kHz" if make.sample_rates else ""
    parts = [_made(target), f"at {rates or 'the sample rate of the source'}"]
    depths = make.bit_depths if encoding_for(make.encoding).lossless else ()
    if depths:
        parts.append(f"with {_numbers([str(depth) for depth in depths])} bits")
    parts.append(f"in {_channel_counts(make.channels)}")
    return ", ".join(parts)


_CHANNELS = {1: "mono", 2: "stereo"}


def _channel_counts(counts: Sequence[int]) -> str:
    highest = max(counts)
    if highest > 2 and sorted(counts) == [*range(1, highest + 1)]:
        return f"1 to {highest} channels"
    return _numbers([_CHANNELS.get(count, f"{count} channels") for count in counts])


def _numbers(words: Sequence[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


_GRID_RATES = (8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 88_200, 96_000, 176_400, 192_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class AcceptRow:
    """A kind of file that plays as it is: for each rate of the grid the depths that do, "" for a rate that does not; and
    what else it is held to."""

    format: str
    cells: tuple[str, ...]
    limits: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class AcceptGrid:
    rates: tuple[str, ...]
    rows: tuple[AcceptRow, ...]


def accept_grid(target: Target) -> AcceptGrid:
    """Formats by rates: the usual ones that any of them takes, and whatever else a row names."""
    named = {rate for row in target.accepts for rate in row.sample_rates}
    anything = any(not row.sample_rates for row in target.accepts)
    rates = sorted(named | (set(_GRID_RATES) if anything else set()))
    return AcceptGrid(
        rates=tuple(figure(rate / 1000, "g") for rate in rates),
        rows=tuple(
            AcceptRow(
                format=row.format, limits=_limits(row),
                cells=tuple(_depths(row) if not row.sample_rates or rate in row.sample_rates else "" for rate in rates),
            ) for row in target.accepts
        ),
    )  # fmt: skip


def _depths(row: Accepts) -> str:
    return " ".join(str(depth) for depth in row.bit_depths) or "yes"


def _limits(row: Accepts) -> tuple[str, ...]:
    found = []
    if row.channels:
        found.append(_channel_counts(row.channels))
    if row.max_bitrate_kbps:
        found.append(f"up to {row.max_bitrate_kbps} kbit/s")
    if row.bitrates_kbps:
        found.append(f"exactly {_numbers([str(each) for each in row.bitrates_kbps])} kbit/s")
    if row.modes:
        found.append(f"{_numbers(row.modes)} bitrate")
    if row.channel_modes:
        found.append(_numbers(row.channel_modes))
    if len(row.containers) > 1:
        found.append(f"in {_numbers([container_row(each).label for each in row.containers])}")
    if row.video:
        found.append("with a picture")
    return tuple(found)


@dataclass(frozen=True, slots=True, kw_only=True)
class StandingRow:
    """A target's strip, and (fit, tracks, seconds) of each fit: name says it in words for those who do not see the marks."""

    target: Target
    marks: tuple[str, ...]
    counts: tuple[tuple[FitKind, int, float], ...]
    name: str


def standing_row(standing: Standing) -> StandingRow:
    said = ", ".join(
        f"{number} {FIT_WORDS[kind]}" for kind, number in zip(FIT_KINDS, standing.counts, strict=True) if number
    )
    return StandingRow(
        target=standing.target,
        marks=tuple(str(kind) for kind in standing.marks),
        counts=tuple(zip(FIT_KINDS, standing.counts, standing.seconds, strict=True)),
        name=f"{standing.target.name}: {said}",
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class HourRow:
    """What an hour of some sound takes when it is made for a target: bytes, and between which bounds they may lie;
    text says why there is nothing."""

    source: str
    size_bytes: int = 0
    least_bytes: int = 0
    most_bytes: int = 0
    text: str = ""

    @property
    def exact(self) -> bool:
        return self.least_bytes == self.most_bytes


_HOURS = (
    ("44.1 kHz, 16 bit, stereo", 44_100, 16, 2), ("48 kHz, 24 bit, stereo", 48_000, 24, 2),
    ("96 kHz, 24 bit, stereo", 96_000, 24, 2), ("44.1 kHz, 16 bit, mono", 44_100, 16, 1),
)  # fmt: skip
_HOUR_SECONDS = 3600


def hour_rows(target: Target) -> tuple[HourRow, ...]:
    """The price of an hour of usual sounds, from WAV, so that something has to be made of it."""
    rows = []
    for name, rate, depth, channels in _HOURS:
        facts = Facts(
            path="hour.wav", container="wav", codec="pcm", lossless=True, sample_rate=rate, bit_depth=depth,
            channels=channels, samples=rate * _HOUR_SECONDS, bitrate_bps=rate * depth * channels,
            bitrate_mode="constant", sound_streams=1, size_bytes=rate * depth * channels // 8 * _HOUR_SECONDS,
        )  # fmt: skip
        # Even what would be taken as it is.
        step = plan_sound(facts, target, changes_sound=True)
        after = step.after
        if after is None:
            rows.append(HourRow(source=name, text=step.reason))
        else:
            rows.append(
                HourRow(
                    source=name, size_bytes=after.size_bytes, least_bytes=after.least_bytes, most_bytes=after.most_bytes
                )
            )
    return tuple(rows)


_LEVEL_WORDS = {
    "none": "unchanged", "track": "every track at {lufs} LUFS", "album": "every album at {lufs} LUFS, its tracks as they stand to each other",
    "tags": "unchanged, the gain to {lufs} LUFS stated in tags",
}  # fmt: skip


def _player_text(player: PlayerRule) -> str:
    reads = " or ".join(file_system_for(key).label for key in player.file_systems) or "any file system"
    limits = [
        text.format(value)
        for value, text in (
            (player.largest_volume_gb, "at most {} GB"), (player.deepest_folders, "folders at most {} deep"),
            (player.most_in_folder, "at most {:,} entries in a folder"), (player.most_tracks, "at most {:,} tracks"),
        ) if value is not None
    ]  # fmt: skip
    order = "as they were written" if player.order == "written" else "by names"
    signs = f", {player.display_signs} characters of them" if player.display_signs else ""
    shown = "tags" if player.shows == "tags" else "file names"
    return f"{', '.join([reads, *limits])}; plays them {order}, shows {shown}{signs}"


def rule_lines(target: Target) -> tuple[tuple[str, str], ...]:
    """(what, how) of everything a target does beside coding."""
    level, tags, names, lists = target.level, target.tags, target.names, target.playlists
    loudness = _LEVEL_WORDS[level.mode].format(lufs=figure(level.loudness_lufs, "g"))
    if level.mode in ("track", "album"):
        loudness += f", peaks at most {figure(level.ceiling_dbtp, 'g')} dBTP" + (", limited" if level.limits else "")
    covers = {"all": "all", "front": "the front one", "none": "none"}[tags.covers]
    if tags.covers != "none" and tags.cover_pixels:
        covers += f", at most {tags.cover_pixels} pixels"
    return (
        ("Loudness", loudness),
        ("Tags", ", ".join(tags.keep) if tags.keep else "all that the format holds"),
        ("Covers", covers),
        ("Names", names.pattern or "as the sources are named, in their folders"),
        ("File system", file_system_for(names.file_system).label),
        ("Lists", "none" if lists.kind == "none" else lists.kind.upper() + (", a folder for each" if lists.folder_each else "")),
        ("Sticks and cards", _player_text(target.player)),
        ("Judged", "strictly: no tolerance, no fault" if target.strict else "with the usual tolerance in bitrates"),
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class SpecRow:
    """A file, the lines of a specification with what it has, and how it stands; verdict "" where it waits."""

    title: str
    name: str
    lines: tuple[SpecLine, ...] = ()
    error: str = ""
    verdict: str = ""
    hear: str = ""
    hear_at: str = ""


def spec_rows(check: SpecCheck) -> list[SpecRow]:
    """Those that fail first, then in their order."""
    rows = []
    for number, file in enumerate(check.files):
        found = check.found.get(str(number), {})
        rows.append(
            SpecRow(
                title=file["title"],
                name=file["path"].encode("utf-8", "replace").decode(),
                lines=tuple(from_record(SpecLine, line) for line in found.get("lines", ())),
                error=found.get("error", ""),
                verdict=found.get("verdict", ""),
                hear=file.get("hear", ""),
                hear_at=file.get("hear_at", ""),
            )
        )
    return sorted(rows, key=lambda row: ("failed", "doubtful", "passed", "").index(row.verdict))
