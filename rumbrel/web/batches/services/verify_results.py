"""Compare the results of a batch with their sources once more."""

from django.utils import timezone

from rumbrel.core.conversion import Outcome
from rumbrel.core.crew import default_jobs
from rumbrel.core.progress import Progress
from rumbrel.core.workflows.verify import verify_steps
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Batch
from ..queries import result_items
from .run_batch import cursor_now, steps_of

__all__ = ["start_verifying", "verify_results"]


def start_verifying(*, batch: Batch) -> Job:
    return start_job(kind="verify", subject=batch.pk, title=f"Checking batch {batch.pk} again: {batch.target_name}")


def verify_results(desk: Desk, batch_id: int) -> str:
    """The work; returns how many are as they should be. What is there stays as it is, right or wrong."""
    batch = Batch.objects.get(pk=batch_id)
    numbers = set(result_items(batch).values_list("number", flat=True))
    steps = steps_of(batch, numbers=numbers)
    by_output = {step.output: number for number, step in steps.items()}
    right = wrong = undecided = 0
    for event in verify_steps(list(steps.values()), jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
        elif isinstance(event, Outcome) and event.undecided:
            undecided += 1
        elif isinstance(event, Outcome):
            right, wrong = (right + 1, wrong) if event.ok else (right, wrong + 1)
            batch.items.filter(number=by_output[event.step.output]).update(
                changed=cursor_now(), verified_at=timezone.now(), verify_error="" if event.ok else event.error,
                compared_samples=event.compared_samples, worst_seconds=event.worst_seconds,
                **({"read_by": event.read_by} if event.read_by else {}),
                **({"difference_db": event.difference_db} if event.difference_db is not None else {}),
            )  # fmt: skip
    desk.check()
    text = f"{counted(right, 'result')} as they should be" if right != 1 else "1 result as it should be"
    parts = [text, *([f"{wrong:,} not"] if wrong else [])]
    parts += [f"{counted(undecided, 'result')} could not be compared. Check again"] if undecided else []
    return f"{'; '.join(parts)}."
