"""Every check: style, layout of the code, types, import contracts, tests. `./run test fast` leaves out the slow ones.

`./run test slowest` says which tests take longest, so that the slow ones can be marked with @slow.
"""

import contextlib
import faulthandler
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent
CHECKS = (
    ("style", [str(BIN / "ruff"), "check", "."]),
    ("layout of the code", [str(BIN / "ruff"), "format", "--check", "--quiet", "."]),
    ("import contracts", [str(BIN / "lint-imports"), "--no-logo"]),
    ("types", [str(BIN / "mypy")]),
)
FAULTS = ("6 rounds of faults", [sys.executable, "-m", "tests.faults", "6"])
"""Part of a whole run; `./run faults 200` does more of them."""
MODES = ("fast", "slowest", "part", "whole-part")
"""part and whole-part are for a part of a run: tests alone, without the checks; whole-part does the slow ones as well."""
PARTS = (
    ("tests.browser.test_walk", "tests.browser.test_crawl", "tests.browser.test_presses"),
    ("tests.browser.test_guide",),
    ("tests.browser.test_bench", "tests.browser.test_discs", "tests.browser.test_ways"),
)
"""Beside each other, and the rest beside them: the browser's wait most, so that all share two cores well."""
MOST_AT_ONCE = 5
"""So many parts run at a time: each waits now and then, and more of them would only keep each other waiting."""
TEST_LIMIT_SECONDS = 600
"""What a single test may take before its part ends, with a trace of where it stood. The slowest takes a tenth of it."""
PART_LIMIT_SECONDS = 2_700
"""What any part may take: one that hangs has failed, and what it said so far is shown."""
SUMMARY = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped$", re.MULTILINE)
TOOK = re.compile(r"^.*: \d+ s by the clock, .*$", re.MULTILINE)


@dataclass(frozen=True, slots=True)
class Count:
    """How many tests came out how."""

    passed: int
    failed: int
    skipped: int

    def __add__(self, other: "Count") -> "Count":
        return Count(self.passed + other.passed, self.failed + other.failed, self.skipped + other.skipped)

    def __str__(self) -> str:
        return f"{self.passed} passed, {self.failed} failed, {self.skipped} skipped"


@dataclass(frozen=True, slots=True)
class Process:
    """A check or a part that runs. What it says goes to a file: a pipe stays open as long as any process it left behind
    has it, and the run would wait for that one."""

    process: "subprocess.Popen[bytes]"
    said: IO[bytes]

    @classmethod
    def begin(cls, command: list[str], label: str = "") -> "Process":
        """The browser's parts, which wait for one page after another, would wait longest for the cores: the rest is
        nicer than they are."""
        command = command if label.startswith("tests.browser") else ["nice", "-n", "10", *command]
        said = tempfile.TemporaryFile()  # noqa: SIM115 - closed by end
        running = subprocess.Popen(command, cwd=ROOT, stdout=said, stderr=said, start_new_session=True)
        return cls(running, said)

    def end(self, until: float) -> tuple[int, str]:
        """Its exit status and what it said, once it has ended or its time is over (by time.monotonic)."""
        late = ""
        try:
            status = self.process.wait(timeout=max(1.0, until - time.monotonic()))
        except subprocess.TimeoutExpired:
            status, late = 1, f"\nNot done after {PART_LIMIT_SECONDS} s, so it was ended."
        self.kill()
        with self.said as said:
            said.seek(0)
            return status, said.read().decode(errors="replace") + late

    def kill(self) -> None:
        """With whatever it started and left behind."""
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()


def main() -> int:
    words = sys.argv[1:]
    mode = words.pop(0) if words[:1] and words[0] in MODES else ""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    begun, until = time.perf_counter(), time.monotonic() + PART_LIMIT_SECONDS
    shared = mode in ("", "fast") and not words
    labels = [*map(list, PARTS), *_rest()] if shared else []
    part = "part" if mode == "fast" else "whole-part"
    running: list[Process] = []

    def run(command: list[str], label: str = "") -> tuple[int, str]:
        running.append(Process.begin(command, label))
        return running[-1].end(until)

    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as kept, ThreadPoolExecutor(MOST_AT_ONCE) as pool:
        if shared:
            os.environ["KEPT_DEMO"] = kept
        try:
            # In this order; what they say is shown in the same.
            parts = [
                pool.submit(run, [sys.executable, "-m", "tests.run_all", part, *label], label[0]) for label in labels
            ]
            checks = [] if mode.endswith("part") else [(name, pool.submit(run, command)) for name, command in CHECKS]
            if shared and not mode:
                checks.append((FAULTS[0], pool.submit(run, FAULTS[1])))
            count = Count(0, 0, 0) if shared else _run_here(words or ["tests"], mode)
            for ended in parts:
                count += _counted(ended.result())
            count += Count(0, sum(_failed(name, check.result()) for name, check in checks), 0)
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
            for process in running:
                if process.process.poll() is None:
                    process.kill()
    print(f"{'All of it' if shared else ', '.join(words)}: {_took(begun)}")
    print(count)
    return 1 if count.failed or not count.passed else 0


def _run_here(labels: list[str], mode: str) -> Count:
    with tempfile.TemporaryDirectory() as data:
        os.environ["RUMBREL_DATA"] = data
        os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings.test"
        return _run_tests(labels, mode)


def _took(begun: float) -> str:
    """By the clock, and of the cores with every process that has ended: the two say how well the parts are divided."""
    used = os.times()
    cores = used.user + used.system + used.children_user + used.children_system
    return f"{time.perf_counter() - begun:.0f} s by the clock, {cores:.0f} s of the cores"


def _labels(package: str) -> list[str]:
    """What has tests in a package, by name."""
    return sorted(
        f"tests.{package}.{path.stem}" for path in (ROOT / "tests" / package).iterdir()
        if path.stem.startswith("test_") or (path.is_dir() and any(path.glob("test_*.py")))
    )  # fmt: skip


def _rest() -> list[list[str]]:
    """Every other package with tests, those that take longest first: the web's in four, the core's in two."""
    web, core = _labels("web"), _labels("core")
    named = {".".join(label.split(".")[:2]) for part in PARTS for label in part} | {"tests.web", "tests.core"}
    found = (f"tests.{path.stem}" for path in (ROOT / "tests").iterdir() if any(path.rglob("test_*.py")))
    others = sorted(label for label in found if label not in named)
    return [*(web[number::4] for number in range(4)), [*core[1::2], *others], core[::2]]


def _failed(name: str, ended: tuple[int, str]) -> bool:
    status, said = ended
    print(said if status else f"Passed: {name}", flush=True)
    return status != 0


def _counted(ended: tuple[int, str]) -> Count:
    """What a part came to; one that said nothing of itself has failed."""
    status, said = ended
    summary, took = SUMMARY.search(said), TOOK.search(said)
    if status or summary is None:
        print(said, flush=True)
    elif took:
        print(took.group(), flush=True)
    return Count(*map(int, summary.groups())) if summary else Count(0, 1, 0)


def _run_tests(labels: list[str], mode: str) -> Count:
    import django
    import scipy.fft  # noqa: F401 - a worker that is forked from here has it then
    import scipy.signal  # noqa: F401 - likewise

    from rumbrel.core.crew import expect_every_kind

    expect_every_kind()
    django.setup()
    from django.test.runner import DiscoverRunner

    kept: list[unittest.TestResult] = []

    class Runner(DiscoverRunner):
        def get_resultclass(self) -> Any:
            return _Timed if mode == "slowest" else _Limited

        def suite_result(self, suite: unittest.TestSuite, result: unittest.TestResult, **kwargs: object) -> int:
            kept.append(result)
            return int(super().suite_result(suite, result, **kwargs))

    left_out = {"slow"} if mode in ("fast", "part") else set()
    Runner(verbosity=1, interactive=False, exclude_tags=left_out).run_tests(labels)
    if mode == "slowest":
        _Timed.show()
    result = kept[0]
    wrong = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    return Count(result.testsRun - wrong - len(result.skipped), wrong, len(result.skipped))


class _Limited(unittest.TextTestResult):
    """Ends the part where one test, or what comes before the next, does not end, and says where each thread stood."""

    def startTest(self, test: unittest.TestCase) -> None:
        self._arm()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self._arm()

    @staticmethod
    def _arm() -> None:
        faulthandler.dump_traceback_later(TEST_LIMIT_SECONDS, exit=True)


class _Timed(_Limited):
    """Keeps how long each test took."""

    times: list[tuple[float, str]] = []
    _begun = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self._begun = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.times.append((time.perf_counter() - self._begun, test.id()))

    @classmethod
    def show(cls) -> None:
        for seconds, name in sorted(cls.times, reverse=True)[:40]:
            print(f"{seconds:6.1f} s  {name}")


if __name__ == "__main__":
    sys.exit(main())
