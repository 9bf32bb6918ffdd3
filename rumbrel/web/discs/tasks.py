"""Work of discs that runs in the background."""

from huey.contrib.djhuey import db_task, on_startup

from . import services
from .models import Disc


@db_task()
def write_disc(disc_id: int) -> None:
    services.run_write(disc_id)


@on_startup()
def spoil_interrupted() -> None:
    """A write that was under way when the recorder lost its power spoiled its blank."""
    text = "The write was interrupted; the blank counts as spoiled. The layout is kept: write it again."
    Disc.objects.filter(state=Disc.State.RUNNING).update(state=Disc.State.FAILED, error=text)
