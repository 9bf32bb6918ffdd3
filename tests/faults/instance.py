"""A running instance of Rumbrel as its users meet it: started, used by its forms, killed, looked into."""

import http.cookiejar
import os
import random
import signal
import socket
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from .obstacles import Obstacles

ROOT = Path(__file__).resolve().parents[2]
_SECONDS_TO_ANSWER = 60
_SECONDS_TO_START = 240
"""On a machine whose cores are taken by types and tests, a first start with all its migrations takes long."""


class Instance:
    """`serve` on a data folder of its own. Its parts are found by their environment, also when orphaned."""

    def __init__(self, data: Path, roots: Path, log: Path, obstacles: Obstacles | None = None) -> None:
        self.data, self._log, self.obstacles = data, log, obstacles
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self._port = probe.getsockname()[1]
        self._environment = {
            **os.environ, "RUMBREL_DATA": str(data), "RUMBREL_ROOTS": str(roots), "RUMBREL_PORT": str(self._port),
            "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base", **(obstacles.environment if obstacles else {}),
        }  # fmt: skip
        self._jar = http.cookiejar.CookieJar()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self._jar))
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        with self._log.open("ab") as log:
            self._process = subprocess.Popen(
                [sys.executable, "manage.py", "serve"], cwd=ROOT, env=self._environment, stdout=log, stderr=log
            )
        until = time.monotonic() + _SECONDS_TO_START
        while not self._listens():
            if self._process.poll() is not None or time.monotonic() > until:
                told = self._log.read_text(errors="replace")[-3000:]
                raise AssertionError(f"it does not start (ended with {self._process.poll()}):\n{told}")
            time.sleep(0.2)
        self.get("/help/")

    def _listens(self) -> bool:
        with socket.socket() as probe:
            return probe.connect_ex(("127.0.0.1", self._port)) == 0

    def end(self) -> None:
        if self._process and self._process.poll() is None:
            self._process.terminate()
            self._process.wait(timeout=30)

    def get(self, address: str) -> str:
        """The text of a page, as soon as the server answers."""
        return self._ask(urllib.request.Request(self._url(address)))

    def post(self, address: str, **values: object) -> str:
        """Send a form; returns the page that follows. Where the server died meanwhile, it is sent again."""
        self.get("/help/")
        token = next(cookie.value for cookie in self._jar if cookie.name == "csrftoken")
        data = urllib.parse.urlencode({**values, "csrfmiddlewaretoken": token}).encode()
        return self._ask(urllib.request.Request(self._url(address), data))

    def _url(self, address: str) -> str:
        return f"http://127.0.0.1:{self._port}{address}"

    def _ask(self, request: urllib.request.Request) -> str:
        until = time.monotonic() + _SECONDS_TO_ANSWER
        while True:
            try:
                with self._opener.open(request, timeout=60) as answer:
                    return answer.read().decode()
            except urllib.error.HTTPError as error:
                # Where the database or the disk was in the way, the page says so, and the user tries again.
                if error.code < 500 or time.monotonic() > until:
                    raise AssertionError(f"{request.full_url}: {error.code}") from error
            except (OSError, urllib.error.URLError) as error:
                if time.monotonic() > until:
                    raise AssertionError(f"{request.full_url} does not answer: {error}") from error
            time.sleep(0.2)

    def parts(self) -> dict[int, str]:
        """Every living process of this instance, with what it is: serve, web, consume, crew."""
        found = {}
        mark = f"RUMBREL_DATA={self.data}".encode()
        for folder in Path("/proc").iterdir():
            if not folder.name.isdecimal() or int(folder.name) == os.getpid():
                continue
            try:
                if mark not in (folder / "environ").read_bytes().split(b"\0"):
                    continue
                words = (folder / "cmdline").read_bytes().decode().split("\0")
                state = (folder / "stat").read_text().rsplit(")", 1)[1].split()[0]
            except OSError:
                continue
            if state != "Z":
                name = next((word for word in words if word in ("serve", "web", "consume")), "crew")
                found[int(folder.name)] = name
        return found

    def kill(self, name: str, dice: random.Random) -> bool:
        """Kill one part of that name: of the crew a worker, or the one that forks them. False where there is none."""
        there = [pid for pid, part in self.parts().items() if part == name]
        for pid in [dice.choice(there)] if there else []:
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        return bool(there)

    def kill_all(self) -> None:
        for pid in self.parts():
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        if self._process:
            self._process.wait()

    @property
    def lives(self) -> bool:
        return self._process is not None and self._process.poll() is None


@contextmanager
def small_disk(folder: Path, megabytes: int) -> Iterator[bool]:
    """The folder as a disk of its own that can be filled, where this may be done (by root, on Linux)."""
    mount = ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "tmpfs", str(folder)]
    mounted = os.geteuid() == 0 and subprocess.run(mount, capture_output=True).returncode == 0
    try:
        yield mounted
    finally:
        if mounted:
            subprocess.run(["umount", "-l", str(folder)], check=True)
