"""What a command costs that is called in a loop: of one small file, against the interpreter's own start."""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path
from statistics import median

from tests.signals import write_sound

__all__ = ["MEASURES", "run"]

MEASURES = ("start",)
_TURNS = 5


def run(names: Sequence[str]) -> None:
    if "start" in names:
        with tempfile.TemporaryDirectory() as folder:
            _measure(Path(folder))


def _measure(folder: Path) -> None:
    """Turn by turn beside each other, so that a slow moment counts for all."""
    source = write_sound(folder / "a.flac", 44_100 * 5)
    python, manage = sys.executable, str(Path(__file__).parents[2] / "manage.py")
    commands = {
        "the interpreter": [python, "-c", "pass"],
        "numpy, av and Django alone": [python, "-c", "import numpy, av, django.core.management, django.db.models"],
        "inspect": [python, manage, "inspect", str(source)],
        "inspect --deep": [python, manage, "inspect", "--deep", str(source)],
        "convert to MP3": [python, manage, "convert", "--target", "car-mp3", "--when-present", "replace", "--out", str(folder / "o"), str(source)],
    }  # fmt: skip
    # As users have it: what was compiled once is kept.
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    seconds: dict[str, list[float]] = {name: [] for name in commands}
    for _ in range(_TURNS):
        for name, command in commands.items():
            begun = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True, env=environment)
            seconds[name].append(time.perf_counter() - begun)
    bare = median(seconds["the interpreter"])
    for name, found in seconds.items():
        print(f"Start, {name}: {median(found):.2f} s, {median(found) / bare:.0f} times the interpreter's own")
