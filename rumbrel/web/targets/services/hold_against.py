"""Hold files against a target as a specification."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.db import transaction

from rumbrel.core.crew import default_jobs
from rumbrel.core.errors import TargetError
from rumbrel.core.progress import Progress
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import Target
from rumbrel.core.targets.specification import verdict_of
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.specification import Specified, SpecTask, hold_against
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import SpecCheck

__all__ = ["HeldFile", "carry_out_holding", "start_holding"]

MOST_FILES = 2_000
_KEPT_EVERY = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldFile:
    """hear_at is where a result is furthest from its source, in minutes and seconds, and hear the address at which that
    is heard; both "" where nothing is known of it."""

    title: str
    path: str
    seconds: float
    hear: str = ""
    hear_at: str = ""


def start_holding(*, target: Target, files: Sequence[HeldFile], about: str = "") -> SpecCheck:
    """Queue the measuring. Raises TargetError for no files, or too many."""
    if not files:
        raise TargetError("There is no file to check. Pull tracks in the collection first.")
    if len(files) > MOST_FILES:
        raise TargetError(f"At most {MOST_FILES:,} files are checked against a specification at once.")
    with transaction.atomic():
        check = SpecCheck.objects.create(
            target=as_record(target), target_name=target.name[:200], target_slug=target.slug, about=about[:200],
            files=[as_record(file) for file in files],
        )  # fmt: skip
        title = f"{counted(len(files), 'file')} against {target.name}"
        check.job = start_job(kind="spec", subject=check.pk, title=title)
        check.save(update_fields=["job"])
    return check


def carry_out_holding(desk: Desk, check_id: int) -> str:
    """The work; what is measured already is not measured again."""
    check = SpecCheck.objects.get(pk=check_id)
    target = from_record(Target, check.target)
    tasks = [
        SpecTask(id=number, path=Path(file["path"]), target=target, seconds=file["seconds"])
        for number, file in enumerate(check.files)
        if str(number) not in check.found
    ]
    waiting = 0
    for event in hold_against(tasks, jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
        elif isinstance(event, Specified):
            verdict = str(verdict_of(event.lines)) if event.lines else str(Verdict.FAILED)
            check.found[str(event.id)] = {"lines": as_record(event.lines), "error": event.error, "verdict": verdict}
            waiting += 1
        if waiting >= _KEPT_EVERY:
            check.save(update_fields=["found"])
            waiting = 0
    check.save(update_fields=["found"])
    failed = sum(found["verdict"] != Verdict.PASSED for found in check.found.values())
    meets = counted(len(check.found) - failed, "file meets", "files meet")
    return f"{meets} {check.target_name}" + (f"; {failed:,} not." if failed else ".")
