"""Speed and memory, as ratios measured side by side in one run. ./run bench

The ceiling of a conversion is the same encoder fed from memory, one process a core, plus decoding
alone; the pipeline is what `convert` does, with tags, checks and moving into place.
"""

import argparse
import multiprocessing
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterable
from pathlib import Path

import numpy as np

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.conversion.pool import default_jobs
from rumbrel.core.forecast import forecast_batch, gather_sources
from rumbrel.core.formats.encodings import encoding_for
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.targets.parsing import parse_target
from tests.signals import write_sound

MP3_192 = """
name = "Bench, MP3 192"
[[accepts]]
codec = "mp3"
containers = ["mp3"]
[make]
encoding = "mp3"
mode = "constant"
bitrate_kbps = 192
"""


def _timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _decode_only(path: str) -> None:
    with open_sound(Path(path), inspect_file(Path(path)).choice()) as sound:
        for _ in sound.blocks():
            pass


_MEMORY: list[np.ndarray] = []


def _encode_from_memory(place: str) -> float:
    """Encode what this process holds; returns seconds, without the decoding that filled the memory."""
    target = parse_target(MP3_192, slug="bench")
    shape = SoundShape(sample_rate=44_100, channels=2, depth_bits=16)
    encoder = encoding_for("mp3").open(Path(place), shape, target.make.settings)
    begun = time.perf_counter()
    for block in _MEMORY:
        encoder.write(block)
    encoder.finish()
    return time.perf_counter() - begun


def _encoder_worker(source: str, places: list[str], gate: "multiprocessing.synchronize.Barrier") -> None:
    with open_sound(Path(source), inspect_file(Path(source)).choice()) as sound:
        _MEMORY.extend(sound.blocks())
    gate.wait()
    for place in places:
        _encode_from_memory(place)


def _ceiling_seconds(sources: list[Path], folder: Path, jobs: int) -> float:
    """Encoding from memory on all cores at once, then decoding alone on all cores."""
    gate = multiprocessing.Barrier(jobs + 1)
    places = [str(folder / f"{number}.mp3") for number in range(len(sources))]
    workers = [
        multiprocessing.Process(target=_encoder_worker, args=(str(sources[0]), places[job::jobs], gate))
        for job in range(jobs)
    ]
    for worker in workers:
        worker.start()
    gate.wait()
    encoding = _timed(lambda: [worker.join() for worker in workers])
    with multiprocessing.Pool(jobs) as pool:
        decoding = _timed(lambda: pool.map(_decode_only, [str(path) for path in sources], chunksize=1))
    return encoding + decoding


def _finish(events: Iterable[object]) -> None:
    outcomes = [event for event in events if isinstance(event, Outcome)]
    wrong = [outcome.error for outcome in outcomes if not outcome.ok]
    if wrong:
        raise SystemExit(f"A conversion failed: {wrong[0]}")


def bench_mp3(folder: Path, files: int, minutes: float) -> None:
    jobs = default_jobs()
    sources = [write_sound(folder / "src" / f"{n}.flac", round(44_100 * 60 * minutes), seed=n) for n in range(files)]
    target = parse_target(MP3_192, slug="bench")
    ratios = []
    for turn in range(3):
        out = folder / f"out{turn}"
        plan = forecast_batch(gather_sources([folder / "src"]), target, out)
        (folder / f"c{turn}").mkdir()
        ceiling = _ceiling_seconds(sources, folder / f"c{turn}", jobs)
        pipeline = _timed(lambda plan=plan: _finish(run_steps(plan.steps, jobs=jobs)))  # type: ignore[misc]
        ratios.append(ceiling / pipeline)
        print(f"MP3 192, {files} files of {minutes:g} min on {jobs} cores: ceiling {ceiling:.2f} s, "
              f"pipeline with checks {pipeline:.2f} s, ratio {ceiling / pipeline:.2f}")  # fmt: skip
    print(f"MP3 192, middle of three ratios: {sorted(ratios)[1]:.2f} (aim 0.90)")


def bench_memory(folder: Path) -> None:
    """Peak memory of a process of its own that converts a minute, then an hour."""
    for minutes in (1, 60):
        source = _long_source(folder / f"{minutes}.wav", minutes)
        command = [sys.executable, "-m", "tests.bench", "--memory-of", str(source)]
        peak = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip()
        print(f"Peak memory of converting {minutes} min of sound to MP3: {peak} MB (at most 200)")
        source.unlink()


def _long_source(path: Path, minutes: int) -> Path:
    import soundfile

    minute = (np.random.default_rng(1).standard_normal((44_100 * 60, 2)) * 3000).astype(np.int16)
    with soundfile.SoundFile(path, "w", 44_100, 2, subtype="PCM_16") as file:
        for _ in range(minutes):
            file.write(minute)
    return path


def _memory_of(source: Path) -> None:
    from rumbrel.core.conversion import carry_out

    with tempfile.TemporaryDirectory() as out:
        plan = forecast_batch(gather_sources([source]), parse_target(MP3_192, slug="bench"), Path(out))
        _finish([carry_out(step) for step in plan.steps])
    # VmHWM is this process's own; ru_maxrss would begin with the parent's.
    status = Path("/proc/self/status").read_text()
    print(next(int(line.split()[1]) // 1024 for line in status.splitlines() if line.startswith("VmHWM")))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--files", type=int, default=8)
    parser.add_argument("--minutes", type=float, default=4.0)
    parser.add_argument("--memory-of", type=Path)
    options = parser.parse_args()
    if options.memory_of:
        _memory_of(options.memory_of)
        return
    # Numbers of one run only mean something beside each other: nothing else should be running.
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}")
    with tempfile.TemporaryDirectory() as folder:
        bench_mp3(Path(folder), options.files, options.minutes)
    with tempfile.TemporaryDirectory() as folder:
        bench_memory(Path(folder))


if __name__ == "__main__":
    main()
