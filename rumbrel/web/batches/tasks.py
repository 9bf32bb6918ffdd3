"""Work of batches that runs in the background."""

from huey import crontab
from huey.contrib.djhuey import db_periodic_task, db_task, on_startup

from . import services


@db_task()
def convert_item(item_id: int) -> None:
    services.run_item(item_id)


@db_periodic_task(crontab(minute="*"))
def take_up_orphans() -> None:
    """A worker that was killed leaves its item running; another takes it up within a minute."""
    if services.take_up_orphans():
        services.take_up_all()


@on_startup()
def take_up_after_start() -> None:
    services.take_up_all()
