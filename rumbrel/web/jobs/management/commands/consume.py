"""The consumer: carries out jobs, as `serve` starts it."""

from typing import Any

from django.conf import settings
from django.utils.module_loading import autodiscover_modules
from huey.contrib.djhuey import HUEY

from rumbrel.core.crew import expect_every_kind
from rumbrel.web.ui.commands import PlainCommand

from ...processes import die_with_parent
from ...watch import Rounds, Watch

JOBS_AT_ONCE = 3
"""Each of them may use every core, through a crew of processes of its own."""
_LONGEST_WAIT_SECONDS = 0.5
"""Between two looks at the queue, also after a long time without work."""
_PATIENCE_SECONDS = 120
"""Work waits this long for a locked database; a page does not."""


class Command(PlainCommand):
    help = "Carry out jobs (a part of serve)."

    def handle(self, *args: Any, **options: Any) -> None:
        die_with_parent()
        expect_every_kind()
        settings.DATABASES["default"]["OPTIONS"]["timeout"] = _PATIENCE_SECONDS
        autodiscover_modules("tasks")
        Watch().start()
        Rounds().start()
        HUEY.create_consumer(
            workers=JOBS_AT_ONCE, worker_type="thread", periodic=False, max_delay=_LONGEST_WAIT_SECONDS
        ).run()
