"""The last days on a strip: when files were compared, how many, and what that found."""

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, timedelta

from django.utils import timezone

from rumbrel.core.workflows.fixity import FixityState
from rumbrel.web.ui.words import counted

from .models import FixityWork

__all__ = ["DayMark", "Days", "fixity_days"]

_DAYS = 60
_ALARMS = (FixityState.SOUND, FixityState.MISSING, FixityState.UNREADABLE)
_WIDTH, _HEIGHT = 720, 34


@dataclass(frozen=True, slots=True, kw_only=True)
class DayMark:
    """A day on which something was compared: its place, how high its bar is, and what it found. alarm says that files
    were not what they were; changed, that tags alone had changed."""

    x: float
    width: float
    height: float
    title: str
    alarm: bool
    changed: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Days:
    """labels are (place, text) of the first of each month and of today."""

    marks: tuple[DayMark, ...]
    labels: tuple[tuple[float, str], ...]
    said: str
    width: int = _WIDTH
    height: int = _HEIGHT


def fixity_days(today: date | None = None) -> Days:
    """The last sixty days, to today."""
    last = today or timezone.localdate()
    first = last - timedelta(days=_DAYS - 1)
    found = _by_day(FixityWork.objects.exclude(job=None).select_related("job").order_by("-pk")[:500], first)
    pitch = _WIDTH / _DAYS
    most = max((counts.total() for counts in found.values()), default=1) or 1
    marks = tuple(
        DayMark(
            x=round((day - first).days * pitch + 1, 1), width=round(pitch - 2, 1),
            height=round(max(4.0, (_HEIGHT - 6) * counts.total() / most), 1), title=_title(day, counts),
            alarm=any(counts[state] for state in _ALARMS), changed=bool(counts[FixityState.TAGS]),
        ) for day, counts in sorted(found.items())
    )  # fmt: skip
    days = [first + timedelta(days=number) for number in range(_DAYS)]
    labels = tuple(
        (round((day - first).days * pitch, 1), f"{day:%Y-%m-%d}") for day in days
        if day.day == 1 and (last - day).days > _LABEL_DAYS
    )  # fmt: skip
    alarms = sum(1 for mark in marks if mark.alarm)
    checks = f"compared on {counted(len(marks), 'day')} of the last {_DAYS}"
    said = f"{checks}, {f'files had changed on {alarms}' if alarms else 'nothing had changed'}" if marks else ""
    return Days(marks=marks, labels=(*labels, (round((_DAYS - 1) * pitch, 1), "today")), said=said)


_LABEL_DAYS = 6
"""A label so near to today's would lie on it."""


def _by_day(works: Iterable[FixityWork], first: date) -> dict[date, "Counter[str]"]:
    found: dict[date, Counter[str]] = {}
    for work in works:
        ended = work.job.ended_at or work.job.started_at
        if ended is not None and (day := timezone.localdate(ended)) >= first:
            found.setdefault(day, Counter()).update(work.counts)
    return found


def _title(day: date, counts: "Counter[str]") -> str:
    parts = [f"{counts[state]:,} {state}" for state in FixityState if counts[state]]
    return f"{day:%Y-%m-%d}: {', '.join(parts) or 'nothing compared'}"
