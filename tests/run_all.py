"""Every check: staleness of the built CSS, style, types, import contracts, tests."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
BIN = Path(sys.executable).parent
CHECKS = (
    ("style", [str(BIN / "ruff"), "check", "."]),
    ("layout of the code", [str(BIN / "ruff"), "format", "--check", "--quiet", "."]),
    ("import contracts", [str(BIN / "lint-imports"), "--no-logo"]),
    ("types of the core", [str(BIN / "mypy")]),
)


def main() -> int:
    failed = [name for name, command in CHECKS if subprocess.run(command, cwd=ROOT).returncode]
    with tempfile.TemporaryDirectory() as data:
        os.environ["RUMBREL_DATA"] = data
        os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings"
        result = _run_tests(sys.argv[1:] or ["tests"])
    wrong = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - wrong - len(result.skipped)
    for name in failed:
        print(f"Check failed: {name}")
    print(f"{passed} passed, {wrong + len(failed)} failed, {len(result.skipped)} skipped")
    return 1 if wrong or failed or not passed else 0


def _run_tests(labels: list[str]) -> unittest.TestResult:
    import django

    django.setup()
    from django.test.runner import DiscoverRunner

    kept: list[unittest.TestResult] = []

    class Runner(DiscoverRunner):
        def suite_result(self, suite: unittest.TestSuite, result: unittest.TestResult, **kwargs: object) -> int:
            kept.append(result)
            return super().suite_result(suite, result, **kwargs)

    Runner(verbosity=1, interactive=False).run_tests(labels)
    return kept[0]


if __name__ == "__main__":
    sys.exit(main())
