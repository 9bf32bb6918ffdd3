"""Every check: style, layout of the code, types, import contracts, tests. `./run test fast` leaves out the slow ones.

`./run test slowest` says which tests take longest, so that the slow ones can be marked with @slow.
"""

import os
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent
CHECKS = (
    ("style", [str(BIN / "ruff"), "check", "."]),
    ("layout of the code", [str(BIN / "ruff"), "format", "--check", "--quiet", "."]),
    ("import contracts", [str(BIN / "lint-imports"), "--no-logo"]),
    ("types", [str(BIN / "mypy")]),
)
FAULTS = ("20 rounds of faults", [sys.executable, "-m", "tests.faults", "20"])
"""Part of a whole run; `./run faults 200` does more of them."""
MODES = ("fast", "slowest")


def main() -> int:
    words = sys.argv[1:]
    mode = words.pop(0) if words[:1] and words[0] in MODES else ""
    # Beside the tests, on the other core; what they say is shown at the end.
    pipes = {"stdout": subprocess.PIPE, "stderr": subprocess.STDOUT, "text": True}
    commands = CHECKS if words or mode == "fast" else (*CHECKS, FAULTS)
    checks = {name: subprocess.Popen(command, cwd=ROOT, **pipes) for name, command in commands}  # type: ignore[call-overload]
    with tempfile.TemporaryDirectory() as data:
        os.environ["RUMBREL_DATA"] = data
        os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings.test"
        result = _run_tests(words or ["tests"], mode)
    wrong = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - wrong - len(result.skipped)
    failed = [name for name, check in checks.items() if _failed(name, check)]
    print(f"{passed} passed, {wrong + len(failed)} failed, {len(result.skipped)} skipped")
    return 1 if wrong or failed or not passed else 0


def _failed(name: str, check: "subprocess.Popen[str]") -> bool:
    said, _ = check.communicate()
    print(said if check.returncode else f"Passed: {name}")
    return check.returncode != 0


def _run_tests(labels: list[str], mode: str) -> unittest.TestResult:
    import django

    django.setup()
    from django.test.runner import DiscoverRunner

    kept: list[unittest.TestResult] = []

    class Runner(DiscoverRunner):
        def get_resultclass(self) -> Any:
            return _Timed if mode == "slowest" else super().get_resultclass()

        def suite_result(self, suite: unittest.TestSuite, result: unittest.TestResult, **kwargs: object) -> int:
            kept.append(result)
            return int(super().suite_result(suite, result, **kwargs))

    left_out = {"slow"} if mode == "fast" else set()
    Runner(verbosity=1, interactive=False, exclude_tags=left_out).run_tests(labels)
    if mode == "slowest":
        _Timed.show()
    return kept[0]


class _Timed(unittest.TextTestResult):
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
