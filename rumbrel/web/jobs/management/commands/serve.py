"""./run start: the web server and the background consumer together."""

import os
import signal
import socket
import subprocess
import sys
import time
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management import call_command
from django.core.management.base import BaseCommand, CommandError

from rumbrel.web.jobs.registry import start_actions
from rumbrel.web.jobs.services import recover_jobs

HOST = "127.0.0.1"
JOBS_AT_ONCE = 3
"""Each of them may use every core, through a crew of processes of its own."""


def _stop(signum: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


class Command(BaseCommand):
    help = "Start Rumbrel on this machine."

    def handle(self, *args: Any, **options: Any) -> None:
        port = _port()
        call_command("migrate", verbosity=0)
        recover_jobs(at_start=True)
        for action in start_actions():
            action()
        signal.signal(signal.SIGTERM, _stop)
        me = [sys.executable, sys.argv[0]]
        web = [
            sys.executable,
            "-m",
            "waitress",
            "--threads=8",
            f"--listen={HOST}:{port}",
            "rumbrel.web.wsgi:application",
        ]
        consumer = [*me, "run_huey", "--workers", str(JOBS_AT_ONCE), "--worker-type", "thread", "--quiet"]
        # Groups of their own: Ctrl-C comes here first, and each is ended in order.
        running = [subprocess.Popen(command, start_new_session=True) for command in (web, consumer)]
        try:
            self._announce(port, running[0])
            while all(process.poll() is None for process in running):
                time.sleep(0.3)
            raise CommandError("A part of Rumbrel ended by itself. Its reason stands above.")
        except KeyboardInterrupt:
            self.stdout.write("Ended.")
        finally:
            _end(running)

    def _announce(self, port: int, web: subprocess.Popen[bytes]) -> None:
        """Print the address once it answers."""
        for _ in range(300):
            with socket.socket() as probe:
                if probe.connect_ex((HOST, port)) == 0:
                    break
            if web.poll() is not None:
                raise CommandError("The web server could not start. Its reason stands above.")
            time.sleep(0.1)
        self.stdout.write(f"Rumbrel is at http://{HOST}:{port}/ (Ctrl-C ends it). Data: {settings.RUMBREL.data}")
        self.stdout.flush()


def _port() -> int:
    """The port asked for, if it is one and free."""
    text = settings.RUMBREL.port
    if not text.isdecimal() or not 1 <= int(text) <= 65535:
        raise CommandError(f"RUMBREL_PORT is '{text}'. It must be a number from 1 to 65535.")
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((HOST, int(text)))
        except OSError as error:
            raise CommandError(
                f"Port {text} is in use or not allowed. Choose another: RUMBREL_PORT=8400 ./run demo."
            ) from error
    return int(text)


def _end(running: list[subprocess.Popen[bytes]]) -> None:
    for process in running:
        if process.poll() is None:
            os.killpg(process.pid, signal.SIGTERM)
    for process in running:
        try:
            process.wait(timeout=8)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.wait()
