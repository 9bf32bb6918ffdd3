"""The web server, as `serve` starts it."""

import tempfile
from typing import Any

import waitress
from django.conf import settings

from rumbrel.web.ui.commands import PlainCommand
from rumbrel.web.wsgi import application

from ...processes import die_with_parent

_THREADS = 8
_MOST_CONNECTIONS = 1_000
"""A browser keeps half a dozen open; the default of a hundred is reached by one with many windows."""


_PROXY: dict[str, Any] = {
    "trusted_proxy": "127.0.0.1",
    "trusted_proxy_count": 1,
    "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"},
}
"""What a proxy on this machine says of who asked, and how; nobody else is believed."""


class Command(PlainCommand):
    help = "Answer browsers (a part of serve)."

    def handle(self, *args: Any, **options: Any) -> None:
        die_with_parent()
        # Bodies of requests that are too large for memory go to the disk where their files are kept.
        tempfile.tempdir = str(settings.RUMBREL.data)
        waitress.serve(
            application,
            host=settings.RUMBREL.bind,
            port=int(settings.RUMBREL.port),
            threads=_THREADS,
            clear_untrusted_proxy_headers=True,
            **(_PROXY if settings.RUMBREL.behind_https else {}),
            connection_limit=_MOST_CONNECTIONS,
            max_request_body_size=settings.RUMBREL.largest_drop_bytes,
        )
