"""./run start: the web server and the background consumer together."""

import errno
import logging
import os
import signal
import socket
import subprocess
import time
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import CommandError
from django.db import DatabaseError, connection

from rumbrel.web.accounts.services import has_administrator
from rumbrel.web.settings.ours import Rumbrel
from rumbrel.web.ui.commands import PlainCommand

from ...processes import AlreadyRunning, claim_data_folder, start_part
from ...registry import start_actions
from ...services import recover_jobs
from ...supervisor import Supervisor

_PARTS = ("web", "consume")
_HANDS = "work"
"""This machine's own hands, where a work list is shared with others."""
_SECONDS_TO_START = 30
_QUICK_SECONDS = 10
_MOST_QUICK_DEATHS = 3
"""A part that ends so often, so soon after it began, is not started for ever."""

logger = logging.getLogger(__name__)


def _stop(signum: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


class Command(PlainCommand):
    help = "Start Rumbrel on this machine."

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            claim = claim_data_folder(settings.RUMBREL.data)
        except AlreadyRunning as error:
            raise CommandError(str(error)) from error
        ours = settings.RUMBREL
        port = _port(ours.bind)
        call_command("migrate", verbosity=0)
        _see_that_it_may_open(ours)
        recover_jobs(at_start=True)
        for action in start_actions():
            action()
        signal.signal(signal.SIGTERM, _stop)
        parts = _Parts(claim)
        try:
            parts.start()
            self._announce(port, parts)
            supervisor = Supervisor(_probed(ours.bind), port)
            supervisor.ready()
            while True:
                time.sleep(0.3)
                parts.look()
                supervisor.look()
        except KeyboardInterrupt:
            self.stdout.write("Ended.")
        finally:
            parts.end()

    def _announce(self, port: int, parts: "_Parts") -> None:
        """Print the address once it answers."""
        began = time.monotonic()
        while time.monotonic() - began < _SECONDS_TO_START:
            with socket.socket(_family(settings.RUMBREL.bind)) as probe:
                if probe.connect_ex((_probed(settings.RUMBREL.bind), port)) == 0:
                    break
            time.sleep(0.1)
            parts.look()
        ours = settings.RUMBREL
        if ours.is_open and not ours.behind_https:
            self.stderr.write(_IN_THE_CLEAR)
        host = f"[{ours.bind}]" if ":" in ours.bind else ours.bind
        self.stdout.write(f"Rumbrel is at http://{host}:{port}/ (Ctrl-C ends it). Data: {ours.data}")
        self.stdout.flush()


class _Parts:
    """The processes of this instance. One that dies is started again; none outlives this one."""

    def __init__(self, claim: int) -> None:
        self._claim = claim
        # Nobody writes to it: its end is what the parts wait for.
        self._lifeline, self._held = os.pipe()
        self._running: dict[str, subprocess.Popen[bytes]] = {}
        self._begun: dict[str, float] = {}
        self._names = (*_PARTS, _HANDS) if settings.RUMBREL.redis_url else _PARTS
        self._quick_deaths = dict.fromkeys(self._names, 0)

    def start(self) -> None:
        for name in self._names:
            self._start(name)

    def _start(self, name: str) -> None:
        self._begun[name] = time.monotonic()
        self._running[name] = start_part([name], claim=self._claim, lifeline=self._lifeline)

    def look(self) -> None:
        """Start again what died. Raises CommandError for a part that cannot live."""
        for name, process in self._running.items():
            if process.poll() is None:
                continue
            # One that was killed from outside says nothing against itself.
            quick = process.returncode != -signal.SIGKILL and time.monotonic() - self._begun[name] < _QUICK_SECONDS
            self._quick_deaths[name] = self._quick_deaths[name] + 1 if quick else 0
            if self._quick_deaths[name] >= _MOST_QUICK_DEATHS:
                raise CommandError("A part of Rumbrel keeps ending. The reason is shown above.")
            logger.warning("the part '%s' ended (%s) and is started again", name, process.returncode)
            if name == "consume":
                _take_up()
            self._start(name)

    def end(self) -> None:
        for process in self._running.values():
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGTERM)
        for process in self._running.values():
            try:
                process.wait(timeout=8)
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def _take_up() -> None:
    """The jobs of a consumer that died are nobody's now. Where the database cannot be used, the next consumer's
    watch finds their hearts stopped."""
    try:
        recover_jobs(at_start=True)
    except DatabaseError as error:
        logger.warning("interrupted jobs could not be taken up yet: %s", error)
    finally:
        connection.close()


_IN_THE_CLEAR = (
    "Rumbrel answers others without TLS: passwords and sound travel in the clear. docs/security.md shows how to put a "
    "proxy with TLS before it (RUMBREL_HTTPS=1)."
)


def _see_that_it_may_open(ours: Rumbrel) -> None:
    """Raises CommandError where others could ask and nobody could sign in, or not under the name that they use."""
    if ours.is_open and not has_administrator():
        raise CommandError(
            f"RUMBREL_BIND={ours.bind} opens Rumbrel to others, and there is no account that administers yet. Make one: "
            "./run account add NAME --role administer. Or start it for this machine alone and open /accounts/first/."
        )
    if ours.is_open and not ours.hosts:
        raise CommandError(
            "List the names by which browsers reach Rumbrel, separated by commas: RUMBREL_HOSTS=tower.example,192.0.2.7."
        )


def _family(bind: str) -> socket.AddressFamily:
    return socket.AF_INET6 if ":" in bind else socket.AF_INET


def _probed(bind: str) -> str:
    """Where this machine reaches what is bound to every address."""
    return {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(bind, bind)


def _port(bind: str) -> int:
    """The port asked for, if it is one and free."""
    text = settings.RUMBREL.port
    if not text.isdecimal() or not 1 <= int(text) <= 65535:
        raise CommandError(f"RUMBREL_PORT is '{text}'. It must be a number from 1 to 65535.")
    with socket.socket(_family(bind)) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((bind, int(text)))
        except socket.gaierror as error:
            raise CommandError(f"RUMBREL_BIND is '{bind}'. It must be an address of this machine.") from error
        except OSError as error:
            if error.errno == errno.EADDRNOTAVAIL:
                raise CommandError(f"RUMBREL_BIND is '{bind}', which is no address of this machine.") from error
            raise CommandError(
                f"Port {text} is in use or not allowed. Choose another: RUMBREL_PORT=8400 ./run demo."
            ) from error
    return int(text)
