"""Work of the collection that runs in the background."""

from huey.contrib.djhuey import db_task

from . import services


@db_task()
def scan_folder(scan_id: int) -> None:
    services.run_scan(scan_id)
