"""What templates show of a track beside its columns."""

import csv
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from django.db.models import QuerySet

from rumbrel.core.inspection import Facts
from rumbrel.core.sound.frame_grid import SEGMENT_SAMPLES
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import Fit, FitKind, Target
from rumbrel.web.ui.words import FIT_WORDS, NBSP, counted

from .models import DeepLook, Track

__all__ = [
    "FitGroup",
    "LookRow",
    "csv_lines",
    "edge_words",
    "fit_groups",
    "json_lines",
    "look_rows",
    "tag_rows",
    "trace_seconds",
]

_LABELS = {row.name: row.label for row in FIELDS}


@dataclass(frozen=True, slots=True, kw_only=True)
class FitGroup:
    """The targets to which a track stands in one way, each with its reason. shared is what all of them say
    alike, said once; "" where they differ."""

    kind: FitKind
    word: str
    shared: str
    targets: tuple[tuple[Target, str], ...]


def fit_groups(fits: Sequence[tuple[Target, Fit]]) -> tuple[FitGroup, ...]:
    """Best first; a kind that no target is of is left out."""
    groups = []
    for kind in FitKind:
        targets = tuple((target, fit.reason) for target, fit in fits if fit.kind is kind)
        if targets:
            reasons = {reason for _, reason in targets}
            shared = reasons.pop() if len(reasons) == 1 and len(targets) > 1 else ""
            groups.append(FitGroup(kind=kind, word=FIT_WORDS[kind], shared=shared, targets=targets))
    return tuple(groups)


def tag_rows(facts: Facts) -> tuple[tuple[str, str], ...]:
    """(label, value) of every tag, in the order of our table; unknown ones last, by their own names."""
    texts = facts.tags.as_text()
    known = [(row.label, texts[row.name]) for row in FIELDS if row.name in texts]
    return (*known, *((name, text) for name, text in texts.items() if name not in _LABELS))


@dataclass(frozen=True, slots=True, kw_only=True)
class LookRow:
    """A finding of the deep look: what, the figure with its unit, and what it means. doubtful says that it should
    be looked into."""

    label: str
    figure: str
    remark: str = ""
    doubtful: bool = False


_CHANNEL_WORDS = {
    "identical": "both channels are equal: it is mono",
    "inverted": "one channel is the other turned over: it vanishes where they are mixed",
}


def look_rows(look: DeepLook, track: Track) -> tuple[LookRow, ...]:
    """The findings of a look, most asked for first; none where nothing decoded."""
    found = look.data
    if "integrated_lufs" not in found or not track.sample_rate:
        return ()
    clips = found["clipped_runs"]
    rows = [
        LookRow(label="Loudness", figure=_figure(found["integrated_lufs"], "LUFS"), remark=_range(found)),
        LookRow(
            label="True peak", figure=_figure(found["true_peak_dbtp"], "dBTP"),
            remark=f"clips in {counted(clips, 'place')}" if clips else "nothing clips", doubtful=bool(clips),
        ),
    ]  # fmt: skip
    for name, where in (("leading_silence_samples", "at the start"), ("trailing_silence_samples", "at the end")):
        if found[name]:
            rows.append(LookRow(label="Silence", figure=f"{found[name] / track.sample_rate:.2f} s", remark=where))
    channels = found["channels"]
    if channels:
        remark = _CHANNEL_WORDS.get(channels, f"channel {channels.rpartition(' ')[2]} is silent")
        rows.append(LookRow(label="Channels", figure=str(track.channels), remark=remark, doubtful=True))
    if track.bit_depth and found["used_bits"] is not None and found["used_bits"] < track.bit_depth:
        figure = f"{found['used_bits']} of {track.bit_depth}"
        rows.append(LookRow(label="Bits used", figure=figure, remark="the rest is zero", doubtful=True))
    if found["damaged_packets"]:
        figure = f"{found['damaged_packets']:,}"
        rows.append(LookRow(label="Damage", figure=figure, remark="frames do not decode", doubtful=True))
    made_of = found.get("made_of")
    if made_of:
        rows.append(LookRow(label="Made here", figure="", remark=f"of {made_of}"))
    if loss := found.get("loss"):
        where = ", ".join(f"{int(place) // 60}:{place % 60:04.1f}" for place in loss["places"])
        rows.append(
            LookRow(
                label="Lossy before", figure=loss["coding"],
                remark=f"frames of {loss['hop']:,} samples still show at {where}: {loss['score']:.0f} standard deviations "
                "beyond chance", doubtful=not made_of,
            )
        )  # fmt: skip
    if found["spectral_edge_hz"] and track.lossless:
        rows.append(
            LookRow(
                label="Ends at", figure=f"{found['spectral_edge_hz'] / 1000:.1f}{NBSP}kHz", remark=edge_words(look),
                doubtful=not made_of and bool(found.get("loss") or found["upsampled_from_hz"]),
            )
        )  # fmt: skip
    return tuple(rows)


def trace_seconds(look: DeepLook) -> float:
    """How long the stretches are in which a lossy codec's frames showed; 0.0 where none did."""
    loss = look.data.get("loss")
    return SEGMENT_SAMPLES / float(loss["sample_rate"]) if loss else 0.0


def edge_words(look: DeepLook) -> str:
    """What a sharp end of the spectrum betrays; "" where there is none."""
    raised_from = look.data.get("upsampled_from_hz")
    if not look.data.get("spectral_edge_hz"):
        return ""
    if look.data.get("loss"):
        return "typical of lossy codecs"
    return (
        f"raised from {raised_from / 1000:g} kHz"
        if raised_from
        else "a steep filter, typical of rate converters and radio"
    )


def _figure(value: float | None, unit: str) -> str:
    return "silence" if value is None else f"{value:.1f} {unit}".replace("-", "−")


def _range(found: dict[str, float | None]) -> str:
    value = found["loudness_range_lu"]
    return f"range {value:.1f} LU" if value is not None else ""


_EXPORTED: dict[str, str] = {
    "folder": "folder__path", "file": "relative", "title": "title", "performer": "performer", "album": "album",
    "format": "format", "lossless": "lossless", "sample_rate_hz": "sample_rate", "bit_depth": "bit_depth",
    "channels": "channels", "samples": "samples", "seconds": "seconds", "bitrate_bps": "bitrate_bps",
    "size_bytes": "size_bytes", "fault": "fault", "missing_since": "missing_since", "samples_digest": "look__digest",
    "integrated_lufs": "look__data__integrated_lufs", "true_peak_dbtp": "look__data__true_peak_dbtp",
}  # fmt: skip
"""Names of columns, with their units, and where they come from."""
_FORMULA_SIGNS = ("=", "+", "-", "@", "\t", "\r")


class _Line:
    """Takes what the table writer writes, and hands it on."""

    def write(self, text: str) -> str:
        return text


def csv_lines(tracks: QuerySet[Track]) -> Iterator[str]:
    """A head and a line a track (RFC 4180). Text that a spreadsheet would take for a formula gets an apostrophe."""
    writer = csv.writer(_Line())
    yield writer.writerow(_EXPORTED)
    for row in tracks.values_list(*_EXPORTED.values()).iterator():
        yield writer.writerow([_plain(value) for value in row])


def _plain(value: object) -> object:
    return f"'{value}" if isinstance(value, str) and value.startswith(_FORMULA_SIGNS) else value


def json_lines(tracks: QuerySet[Track]) -> Iterator[str]:
    """A JSON object a line."""
    for row in tracks.values_list(*_EXPORTED.values()).iterator():
        yield json.dumps(dict(zip(_EXPORTED, row, strict=True)), default=str, ensure_ascii=False) + "\n"
