"""A browser and running instances for the tests of the interface: the demo, and one with nothing in it."""

import atexit
import fcntl
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from unittest import TestCase

from playwright.sync_api import ConsoleMessage, Page, expect, sync_playwright

from rumbrel.web.operations.services.move_paths import move_paths

# Other parts of a run use the same cores.
expect.set_options(timeout=60_000)
ROOT = Path(__file__).resolve().parents[2]
CHROMIUM = "/usr/bin/chromium"
KEPT_DEMO = "KEPT_DEMO"
"""Names the folder in which a run of several parts keeps the demo's data, in the environment."""
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Running:
    """An instance that answers on a port, and how another one of its kind would be started."""

    port: int
    data: Path
    environment: dict[str, str]
    end: Callable[[], None]

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"


@cache
def running(command: str, name: str = "") -> Running:
    """The instance that a command starts ("demo" or "serve"), one for each name; it is there until the tests end."""
    data = tempfile.TemporaryDirectory(ignore_cleanup_errors=True)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    environment = {
        **os.environ,
        "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base",
        "RUMBREL_DATA": data.name,
        "RUMBREL_PORT": str(port),
        "RUMBREL_GALLERY": "1",
    }
    if command == "demo" and (kept := os.environ.get(KEPT_DEMO)):
        _copy_demo(Path(kept), Path(data.name), environment)
    server = subprocess.Popen(
        [sys.executable, str(ROOT / "manage.py"), command], env=environment, stdout=subprocess.PIPE, text=True
    )

    def end() -> None:
        if server.poll() is not None:
            return
        server.send_signal(signal.SIGTERM)
        try:
            server.wait(timeout=30)
        except subprocess.TimeoutExpired:
            server.kill()
            server.wait()
        server.stdout.close()
        data.cleanup()

    atexit.register(end)
    lines = []
    for line in server.stdout:
        lines.append(line)
        if "Rumbrel is at" in line:
            return Running(port=port, data=Path(data.name), environment=environment, end=end)
    raise AssertionError(f"'{command}' did not start: {lines}")


def _copy_demo(kept: Path, data: Path, environment: dict[str, str]) -> None:
    """The demo's data, made once for all parts of a run; who comes while it is made waits."""
    with (kept / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (kept / "ready").exists():
            command = [sys.executable, str(ROOT / "manage.py"), "demo", "--only-data"]
            made = {**environment, "RUMBREL_DATA": str(kept / "data")}
            subprocess.run(command, env=made, stdout=subprocess.DEVNULL, check=True)
            (kept / "ready").touch()
    shutil.copytree(kept / "data", data, symlinks=True, dirs_exist_ok=True)
    move_paths(data / "rumbrel.sqlite3", data / "ledger", {kept / "data": data})


class BrowserCase(TestCase):
    """Each page notes what the browser complains about, in self.faults."""

    command = "demo"
    own = ""
    """Names an instance that other classes do not use."""
    alone = False
    """That instance is of no use behind this class."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.instance = running(cls.command, cls.own)
        if cls.alone:
            cls.addClassCleanup(cls.instance.end)
        # Stopped with the class: while it runs, other tests may not use the database.
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        cls.addClassCleanup(cls.browser.close)

    def page(self, address: str = "/", **context: object) -> Page:
        page = self.browser.new_page(**context)
        page.set_default_timeout(60_000)
        self.faults: list[str] = []
        page.on("pageerror", lambda error: self.faults.append(str(error)))
        page.on("console", self._note)
        self.addCleanup(page.close)
        page.goto(self.instance.address + address)
        return page

    def _note(self, message: ConsoleMessage) -> None:
        if message.type in ("error", "warning"):
            self.faults.append(f"{message.text} ({message.location['url']})")
