"""The image's and the unit's steps, done by hand in a folder of their own: what goes in, the start, what a supervisor hears."""

import contextlib
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator
from pathlib import Path
from unittest import TestCase

from rumbrel.web.jobs.supervisor import Supervisor
from tests.build_wheel import build, try_wheel
from tests.marks import slow

ROOT = Path(__file__).resolve().parents[3]
IMAGE = (ROOT / "docs" / "examples" / "Containerfile").read_text()


class _Line:
    """Where a supervisor listens."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / "notify"
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        self._socket.bind(str(self.path))

    def heard(self, seconds: float) -> str:
        """The next word, "" where none comes in that time."""
        self._socket.settimeout(seconds)
        with contextlib.suppress(TimeoutError):
            return self._socket.recv(100).decode()
        return ""

    def close(self) -> None:
        self._socket.close()


class ImageTests(TestCase):
    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = Path(held.name)
        self.line = _Line(self.folder)
        self.addCleanup(self.line.close)

    def put_in(self) -> Path:
        """What the image's COPY lines put in, from a checkout that was used."""
        used, image = self.folder / "used", self.folder / "image"
        image.mkdir()
        for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True).stdout.splitlines():
            if (ROOT / name).is_file():
                (used / name).parent.mkdir(parents=True, exist_ok=True)
                shutil.copy2(ROOT / name, used / name)
        for name in (".data/rumbrel.sqlite3", ".data/key", ".venv/bin/python", "rumbrel/__pycache__/x.pyc"):
            (used / name).parent.mkdir(parents=True, exist_ok=True)
            (used / name).write_text("of another machine")
        allowed = [line[1:] for line in (used / ".dockerignore").read_text().splitlines() if line.startswith("!")]
        for sources, target in re.findall(r"^COPY --chown=rumbrel (.+) (\S+)$", IMAGE, re.MULTILINE):
            for source in sources.split():
                self.assertIn(source, allowed, "the build would not find it")
                if (used / source).is_dir():
                    shutil.copytree(used / source, image / target, ignore=shutil.ignore_patterns("__pycache__"))
                else:
                    shutil.copy2(used / source, image / source)
        return image

    @slow
    def test_it_starts_from_what_is_listed_and_tells_that_it_is_well(self) -> None:
        image = self.put_in()
        self.assertEqual(
            {path.name for path in image.iterdir()},
            {"run", "manage.py", "requirements.lock", "README.md", "LICENSE", "rumbrel", "docs"},
        )
        self._stand_for_setup(image)
        said = dict(pair.split("=") for pair in re.search(r"^ENV (.*)$", IMAGE, re.M)[1].split())  # type: ignore[index]
        data = self.folder / "data"
        data.mkdir()
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = str(probe.getsockname()[1])
        environment = {name: value for name, value in os.environ.items() if not name.startswith(("RUMBREL", "DJANGO"))}
        environment |= said | {
            "RUMBREL_DATA": str(data), "RUMBREL_ROOTS": str(data), "RUMBREL_BIND": "127.0.0.1", "RUMBREL_PORT": port,
            "RUMBREL_ACCOUNTS": "1", "RUMBREL_HTTPS": "1", "RUMBREL_HOSTS": "tower.example",
            "NOTIFY_SOCKET": str(self.line.path), "WATCHDOG_USEC": "2000000",
        }  # fmt: skip
        run = [str(image / "run")]
        made = subprocess.run(
            [*run, "account", "add", "keeper", "--role", "administer"], env=environment, cwd=image,
            input="a long enough word for a door\n", capture_output=True, text=True,
        )  # fmt: skip
        self.assertEqual((made.returncode, made.stderr), (0, ""))
        start = json.loads(re.search(r"^CMD (\[.*\])$", IMAGE, re.M)[1])  # type: ignore[index]
        check = json.loads(re.search(r"^HEALTHCHECK .* CMD (\[.*\])$", IMAGE, re.M)[1])  # type: ignore[index]
        with _running([*run, *start[1:]], environment, image):
            self.assertEqual(self.line.heard(120), "READY=1")
            self.assertEqual(self.line.heard(60), "WATCHDOG=1")
            asked = [sys.executable, *(word.replace("8321", port) for word in check[1:])]
            well = subprocess.run(asked, capture_output=True, text=True)
            self.assertEqual((well.returncode, well.stderr), (0, ""), "TLS ends at the proxy, not at the health check")

    def _stand_for_setup(self, image: Path) -> None:
        """The packages of this run in the place of those that ./run setup would fetch."""
        venv = image / ".venv"
        venv.mkdir()
        for name in ("bin", "lib", "include", "pyvenv.cfg"):
            (venv / name).symlink_to(Path(sys.prefix) / name)
        shutil.copy2(image / "requirements.lock", venv / ".ready")

    @slow
    def test_the_wheel_has_everything_in_it(self) -> None:
        folder = self.folder / "dist"
        wheel = build(folder)
        names = zipfile.ZipFile(wheel).namelist()
        for wanted in (
            "rumbrel/docs/guide/discs.md",
            "rumbrel/requirements.lock",
            "rumbrel/web/ui/static/ui/rumbrel.css",
        ):
            self.assertIn(wanted, names)
        self.assertEqual([name for name in names if not name.startswith("rumbrel")], [])
        self.assertGreater(len(try_wheel(wheel)), 12)

    def test_an_environment_of_another_machine_is_not_trusted(self) -> None:
        image = self.put_in()
        python = image / ".venv" / "bin" / "python"
        python.parent.mkdir(parents=True)
        python.write_text("of another machine")
        python.chmod(0o755)
        shutil.copy2(image / "requirements.lock", image / ".venv" / ".ready")
        # No package is to be fetched here: the first step is enough to see that it begins anew.
        environment = {**os.environ, "PIP_NO_INDEX": "1", "PIP_FIND_LINKS": "", "PIP_CONFIG_FILE": os.devnull}
        said = subprocess.run([str(image / "run"), "setup"], env=environment, capture_output=True, text=True)
        self.assertEqual(said.returncode, 1)
        self.assertIn("1 of 2: an environment for Python", said.stderr)
        self.assertEqual(subprocess.run([python, "-c", ""]).returncode, 0)

    def test_nothing_is_told_where_nobody_listens_or_all_is_not_well(self) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        Supervisor("127.0.0.1", port, {}).ready()
        told = {"NOTIFY_SOCKET": str(self.line.path), "WATCHDOG_USEC": "1"}
        deaf = Supervisor("127.0.0.1", port, told)
        deaf.ready()
        self.assertEqual(self.line.heard(5), "READY=1")
        with self.assertLogs("rumbrel.web.jobs.supervisor", "WARNING") as logged:
            deaf.look()
        self.assertIn("/health/ does not answer", logged.output[0])
        self.assertEqual(self.line.heard(0.05), "")


@contextlib.contextmanager
def _running(command: list[str], environment: dict[str, str], folder: Path) -> Iterator[None]:
    process = subprocess.Popen(command, env=environment, cwd=folder, stdout=subprocess.DEVNULL, start_new_session=True)
    try:
        yield
    finally:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(timeout=60)
        except subprocess.TimeoutExpired:
            process.kill()
            raise
