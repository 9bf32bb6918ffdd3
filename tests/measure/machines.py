"""Two workers that take steps from a work list against one, and against this machine's own pool."""

import os
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.conversion.shared import run_shared
from rumbrel.core.conversion.work_list import WorkList, WorkListLost, connected
from rumbrel.core.forecast import Step, forecast_batch, gather_sources
from rumbrel.core.targets import find_target
from tests.signals import write_sound

MEASURES = ("machines",)
_FILES, _SECONDS = 8, 120
_MANAGE = Path(__file__).resolve().parents[2] / "manage.py"


def run(names: Sequence[str]) -> None:
    if "machines" not in names:
        return
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder).resolve()
        for number in range(_FILES):
            write_sound(place / "in" / f"{number}.wav", 44_100 * _SECONDS, seed=number)
        print(f"machines: {_FILES} files of {_SECONDS} s to MP3 320, with their checks")
        alone = {jobs: _timed(run_steps(_steps(place, f"alone{jobs}"), jobs=jobs)) for jobs in (1, 2)}
        shared = {jobs: _shared(place, jobs) for jobs in (1, 2)}
        for jobs in (1, 2):
            print(f"  {jobs} of this machine's pool {alone[jobs]:6.1f} s, taken from the list by {jobs} {shared[jobs]:6.1f} s, "
                  f"ratio {alone[jobs] / shared[jobs]:.2f}")  # fmt: skip
        print(
            f"  two workers against one: {shared[1] / shared[2]:.2f} times as fast (the pool: {alone[1] / alone[2]:.2f})"
        )


def _steps(place: Path, out: str) -> tuple[Step, ...]:
    return forecast_batch(gather_sources([place / "in"]), find_target("car-mp3"), place / out).steps


def _timed(events: object) -> float:
    begun = time.perf_counter()
    outcomes = [event for event in events if isinstance(event, Outcome)]  # type: ignore[attr-defined]
    assert len(outcomes) == _FILES and all(outcome.ok for outcome in outcomes)
    return time.perf_counter() - begun


def _shared(place: Path, jobs: int) -> float:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    address = f"redis://127.0.0.1:{port}/0"
    server = subprocess.Popen(["redis-server", "--port", str(port), "--save", ""], stdout=subprocess.DEVNULL)
    environment = {**os.environ, "RUMBREL_DATA": str(place / "lent"), "RUMBREL_REDIS_URL": address,
                   "RUMBREL_ROOTS": str(place), "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.base"}  # fmt: skip
    words = [sys.executable, str(_MANAGE), "work", "--jobs", str(jobs)]
    worker = subprocess.Popen(words, env=environment, stdout=subprocess.DEVNULL)
    try:
        work_list = _there(address)
        while sum(machine.alive for machine in work_list.machines()) < jobs:
            time.sleep(0.1)
        return _timed(run_shared(_steps(place, f"shared{jobs}"), work_list=work_list))
    finally:
        for process in (worker, server):
            process.terminate()
            process.wait()


def _there(address: str) -> WorkList:
    while True:
        try:
            return WorkList(connected(address))
        except WorkListLost:
            time.sleep(0.1)
