"""The self-check and what grows, looked at by a job and kept: a large installation is not looked through for a page."""

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.utils import timezone

from rumbrel.core.progress import Progress, Unit
from rumbrel.core.records import as_record, from_record
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import SelfCheck
from .check_self import Check, check_self
from .limit_growth import Growth, growths

__all__ = ["KeptCheck", "carry_out_self_check", "kept_check", "start_due_self_check", "start_self_check"]

_CHECKED_EVERY = timedelta(days=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptCheck:
    """What the last self-check found, and when."""

    checked_at: datetime
    checks: tuple[Check, ...]
    growths: tuple[Growth, ...]

    @property
    def wrong(self) -> list[Check]:
        return [check for check in self.checks if check.remedy]

    @property
    def total_bytes(self) -> int:
        return sum(growth.size_bytes for growth in self.growths)


def kept_check() -> KeptCheck | None:
    """None before the first one."""
    row = SelfCheck.objects.filter(pk=1).first()
    if row is None:
        return None
    return KeptCheck(
        checked_at=row.checked_at,
        checks=tuple(from_record(Check, record) for record in row.checks),
        growths=tuple(from_record(Growth, record) for record in row.growths),
    )


def start_self_check() -> Job:
    return start_job(kind="self-check", subject=1, title="Self-check")


def start_due_self_check() -> int:
    """Once a day. Returns how many were started."""
    latest = timezone.now() - _CHECKED_EVERY
    if SelfCheck.objects.filter(checked_at__gt=latest).exists():
        return 0
    if Job.objects.filter(kind="self-check", created_at__gt=latest).exists():
        return 0
    start_self_check()
    return 1


def carry_out_self_check(desk: Desk, subject: int) -> str:
    desk.report(Progress(done=0, total=2, unit=Unit.FILES, step="checking"))
    checks = check_self()
    desk.report(Progress(done=1, total=2, unit=Unit.FILES, step="adding up sizes"))
    grown: dict[str, Any] = {
        "checks": [as_record(each) for each in checks],
        "growths": [as_record(g) for g in growths()],
    }
    SelfCheck.objects.update_or_create(pk=1, defaults={"checked_at": timezone.now(), **grown})
    wrong = sum(bool(check.remedy) for check in checks)
    return f"{counted(len(checks), 'point')} checked, {'each in order' if not wrong else f'{wrong} to be seen to'}."
