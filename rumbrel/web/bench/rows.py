"""Stand-ins, and discs that are taken in, as the bench shows them."""

from dataclasses import dataclass
from typing import Any

from rumbrel.core.bench.blanks import Blank, BlankState
from rumbrel.core.bench.drive import BENCH_DRIVES, drive_for
from rumbrel.core.bench.recorder import RECORDERS
from rumbrel.core.disc.known_again import same_disc
from rumbrel.core.disc.media import Medium
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.verdict import Verdict
from rumbrel.web.discs.models import Disc
from rumbrel.web.discs.services import tray_of
from rumbrel.web.ui.words import counted

from .models import Drive, TakeIn
from .services import contents_of, mark_of, readings_of

__all__ = [
    "BlankRow",
    "DeviceRow",
    "TakenRow",
    "blank_row",
    "drive_rows",
    "recorder_rows",
    "taken_before",
    "taken_rows",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class BlankRow:
    """A kind of blank with (speed, seconds that a full one takes) for each rated speed."""

    medium: Medium
    speeds: tuple[tuple[int, float], ...]


def blank_row(medium: Medium) -> BlankRow:
    full = [(speed, medium.write_seconds(medium.capacity_sectors, speed)) for speed in medium.speeds]
    return BlankRow(medium=medium, speeds=tuple(full))


@dataclass(frozen=True, slots=True, kw_only=True)
class DeviceRow:
    """A device, what is in it, and its state in words. taken is the disc that is taken in from it, strip its tracks as
    (seconds, 1, title), blank the disc in a recorder's tray, and next what could be written on that."""

    key: str
    what: str
    holds: str
    state: str
    taken: TakeIn | None = None
    strip: tuple[tuple[float, int, str], ...] = ()
    blank: Blank | None = None
    next: Disc | None = None
    busy: bool = False


def drive_rows() -> list[DeviceRow]:
    inside = {taken.drive_key: taken for taken in TakeIn.objects.filter(in_drive=True).select_related("job")}
    there = dict(Drive.objects.values_list("key", "disc_key"))
    rows = []
    for key in BENCH_DRIVES:
        taken = inside.get(key) if there.get(key) else None
        rows.append(
            DeviceRow(
                key=key,
                what=drive_for(key).label.removeprefix("a drive that "),
                holds=str(taken) if taken else "",
                state=_state(taken),
                taken=taken,
                strip=_strip(taken) if taken else (),
                busy=taken is not None and taken.busy,
            )  # fmt: skip
        )
    return rows


def _state(taken: TakeIn | None) -> str:
    if taken is None:
        return "empty"
    if taken.busy and taken.job is not None:
        return taken.job.step or "waiting for its turn"
    if taken.results:
        return f"{counted(len(taken.results), 'track')} taken in"
    return "ready"


def recorder_rows() -> list[DeviceRow]:
    rows = []
    for kind in RECORDERS:
        tray = tray_of(kind.key)
        holds = tray.shelf.label if tray.shelf else ""
        ready = tray.blank is not None and tray.blank.state is BlankState.BLANK and tray.writing is None
        rows.append(
            DeviceRow(
                key=kind.key, what=kind.label.partition(" recorder, ")[2] or kind.label, holds=holds, state=tray.said,
                blank=tray.blank, next=_to_write(tray.blank.medium.key) if ready and tray.blank else None,
                busy=tray.writing is not None,
            )
        )  # fmt: skip
    return rows


def _strip(taken: TakeIn) -> tuple[tuple[float, int, str], ...]:
    contents, titles = contents_of(taken), taken.names["tracks"]
    return tuple(
        ((contents.end_of(at) - track.start_sector) / SECTORS_PER_SECOND, 1, f"{track.number} {titles[at]['title']}")
        for at, track in enumerate(contents.tracks)
    )


_MOST_LOOKED = 30


def _to_write(medium_key: str) -> Disc | None:
    """The newest disc that was laid out for a blank like that and not written yet."""
    waiting = Disc.objects.filter(image_path="").order_by("-pk")[:_MOST_LOOKED]
    return next((disc for disc in waiting if disc.plan.get("medium_key", "80") == medium_key), None)


@dataclass(frozen=True, slots=True, kw_only=True)
class TakenRow:
    """A track of a disc in a drive: marks are (percent from its beginning, "reread" or "failed")."""

    number: int
    title: str
    performer: str
    sectors: int
    chosen: bool
    verdict: str = ""
    why: str = ""
    marks: tuple[tuple[float, str], ...] = ()
    waits: bool = False
    made: tuple[str, ...] = ()
    before: str = ""


_MOST_MARKS = 200


def taken_rows(taken: TakeIn, earlier: TakeIn | None) -> list[TakenRow]:
    contents, readings = contents_of(taken), readings_of(taken)
    known = readings_of(earlier) if earlier else {}
    rows = []
    for position, track in enumerate(contents.tracks):
        names, record = taken.names["tracks"][position], readings.get(track.number)
        sectors = contents.end_of(position) - track.start_sector
        row = TakenRow(
            number=track.number, title=names["title"], performer=names["performer"], sectors=sectors,
            chosen=track.number in taken.chosen,
        )  # fmt: skip
        if record is not None:
            row = _read_row(taken, row, record, sectors, known.get(track.number))
        elif taken.busy and taken.job is not None and taken.job.step == f"reading track {track.number}":
            row = TakenRow(**{**_fields(row), "verdict": "reading"})
        elif row.chosen and taken.busy:
            row = TakenRow(**{**_fields(row), "verdict": "waiting"})
        rows.append(row)
    return rows


def _fields(row: TakenRow) -> dict[str, Any]:
    return {name: getattr(row, name) for name in row.__slots__}


def _read_row(
    taken: TakeIn, row: TakenRow, record: dict[str, Any], sectors: int, earlier: dict[str, Any] | None
) -> TakenRow:
    marks = [(round(100 * at / sectors, 2), kind) for kind in ("reread", "failed") for at in record[f"{kind}_at"]]
    made = tuple(taken.results.get(str(row.number), {}).values())
    return TakenRow(
        **{
            **_fields(row),
            "verdict": record["verdict"],
            "why": _why(record),
            "marks": tuple(sorted(marks)[:_MOST_MARKS]),
            "waits": record["verdict"] != Verdict.PASSED and not made,
            "made": made,
            "before": ""
            if earlier is None
            else "the same as before"
            if earlier["digest"] == record["digest"]
            else "differs from before",
        }
    )


def _why(record: dict[str, Any]) -> str:
    parts = []
    if record["failed_at"]:
        parts.append(
            f"{counted(len(record['failed_at']), 'sector')} could not be read, the first at {record['failed'][0]} (m:s:f); silence stands there"
        )
    if record["reread_at"]:
        parts.append(
            f"{counted(len(record['reread_at']), 'sector')} needed more than two reads, slowest {record['slowest_speed']}x"
        )
    if record["unreached_samples"]:
        parts.append(
            f"{counted(record['unreached_samples'], 'sample')} at the disc's edge lie beyond this drive's reach"
        )
    if record.get("as_written") is False:
        what = record.get("differs") or "the track"
        parts.append(f"{what} is not what the digests beside the image say was written")
    same = "read twice, the same" + (", and as it was written" if record.get("as_written") else "")
    return "; ".join(parts) or same


def taken_before(taken: TakeIn) -> tuple[TakeIn | None, bool]:
    """(the same disc, taken in before; whether it is that one for certain). Once its tracks were read, their digests tell."""
    others = TakeIn.objects.filter(digest=taken.digest).exclude(pk=taken.pk).exclude(results={}).order_by("-pk")
    for wanted in (Verdict.PASSED, Verdict.DOUBTFUL):
        for other in others:
            if same_disc(mark_of(taken), mark_of(other)) is wanted:
                return other, wanted is Verdict.PASSED
    return None, False
