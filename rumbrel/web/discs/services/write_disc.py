"""Write a disc on the stand-in recorder and read it back."""

import re

from django.conf import settings
from django.db import transaction

from rumbrel.core.errors import DiscError
from rumbrel.core.workflows.make_disc import write_plan
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.registry import Ending
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Disc
from .plan_layout import plan_layout

__all__ = ["settle_write", "start_write", "write_disc"]


def start_write(*, disc: Disc) -> Job:
    """Queue the write. Raises DiscError when the layout may not be written."""
    planned = plan_layout(disc=disc)
    if planned.failed is not None:
        raise DiscError(f"The disc cannot be written: {planned.failed.text}.")
    with transaction.atomic():
        job = start_job(kind="disc-write", subject=disc.pk, title=f"Disc {disc.pk}: {disc.playlist.name}")
        Disc.objects.filter(pk=disc.pk).update(job=job)
    return job


def write_disc(desk: Desk, disc_id: int) -> str:
    """The work of a write. A stopped one leaves no image under the final name."""
    disc = Disc.objects.select_related("playlist").get(pk=disc_id)
    planned = plan_layout(disc=disc)
    if planned.failed is not None:
        # The list or the files changed while the write was waiting.
        raise DiscError(f"The disc cannot be written: {planned.failed.text}.")
    name = re.sub(r"[^\w\- ]+", "_", disc.playlist.name).strip()[:80] or "disc"
    folder = settings.RUMBREL.discs / str(disc.pk)
    # The folder is this disc's own: what is replaced is its last image.
    written = write_plan(planned.plan, folder, name, speed=disc.speed, replaces=True, report=desk.report)
    if written.image is None:
        raise DiscError(written.said)
    Disc.objects.filter(pk=disc_id).update(
        state=Disc.State.WRITTEN,
        error="",
        image_path=str(written.image.bin_path),
        written=planned.plan.layout.as_record(),
        written_mark=planned.mark,
        verdicts=[{"number": v.number, "sectors": v.sectors, "equal": v.equal} for v in written.verdicts],
        simulated_seconds=written.simulated_seconds,
    )
    said = f"{counted(len(written.verdicts), 'track')} identical, sample for sample; the image is in {folder}."
    return " ".join([said, *(each.said for each in written.image.limited)])


def settle_write(disc_id: int, ending: Ending) -> None:
    """A write that was stopped or failed says so on its disc."""
    if ending.state == Job.State.STOPPED:
        text = "Stopped. The blank counts as spoiled; the layout is kept."
        Disc.objects.filter(pk=disc_id).update(state=Disc.State.STOPPED, error=text)
    elif ending.state == Job.State.FAILED:
        text = f"{ending.reason} The blank counts as spoiled."
        Disc.objects.filter(pk=disc_id).update(state=Disc.State.FAILED, error=text)
