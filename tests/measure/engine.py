"""Speed and memory, as ratios measured side by side in one run. ./run measure [NAME ...]

The ceiling of a conversion is the same encoder at the same effort fed from memory, one process a
core, plus decoding alone: the sources, and for a run with the check the results too, since a proof
of every sample has to decode them. The pipeline is what `convert` does, with tags, checks and
moving into place. Numbers of one run only mean something beside each other: nothing else should be running.
"""

import multiprocessing
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from statistics import median

import av
import mutagen
import numpy as np
import soundfile

from rumbrel.core.conversion import Outcome, note_landing, run_steps
from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.fitting import removals, split
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.forecast import ResultLedger, Step, forecast_batch, gather_sources
from rumbrel.core.inspection import Facts, inspect_deep, inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.stages import Treatment, build_chain
from rumbrel.core.targets import Target, find_target, fit_to
from rumbrel.core.targets.parsing import parse_target
from rumbrel.core.workflows.disc_sounds import programme_of
from tests.signals import write_sound

TURNS = 3
# Encoder: what a target asks of it, and the minutes in each of eight files; cheap ones need more to be measured.
ENCODERS = {
    "mp3": ('codec = "mp3"', '["mp3"]', 'encoding = "mp3"\nmode = "constant"\nbitrate_kbps = 192', 4.0),
    "aac": ('codec = "aac"', '["m4a"]', 'encoding = "aac"\nbitrate_kbps = 192', 1.0),
    "flac": ('codec = "flac"', '["ogg"]', 'encoding = "flac"', 6.0),
    "alac": ('codec = "alac"', '["m4a"]', 'encoding = "alac"', 3.0),
    "opus": ('codec = "opus"', '["ogg"]', 'encoding = "opus"\nbitrate_kbps = 128', 2.0),
    "wav": ('codec = "pcm"', '["wav"]', 'encoding = "wav"', 12.0),
}
FILES = 8


def measured_target(name: str) -> Target:
    codec, containers, make, _ = ENCODERS[name]
    if name == "flac":
        containers = '["flac"]'
    rows = f"[[accepts]]\n{codec}\ncontainers = {containers}\n"
    # A FLAC source would be copied for a FLAC target: a high-pass nobody hears makes it work.
    return parse_target(f'name = "Measured {name}"\n{rows}[make]\n{make}\n', slug=f"measured-{name}")


def _timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _decode_only(path: str) -> None:
    with open_sound(Path(path), inspect_file(Path(path)).choice()) as sound:
        for _ in sound.blocks():
            pass


def _encode_from_memory(name: str, source: str, places: Sequence[str], gate: object) -> None:
    """Hold a source in memory, wait for the others, then encode it to each place."""
    target = measured_target(name)
    facts = inspect_file(Path(source))
    shape, encoding = fit_to(facts, target).shape, encoding_for(target.make.encoding)
    with open_sound(Path(source), facts.choice()) as sound:
        chain = build_chain(sound.shape, shape, Treatment())
        blocks = [chain.push(block) for block in sound.blocks()] + list(chain.finish())
    gate.wait()  # type: ignore[attr-defined]
    for place in places:
        encoder = encoding.open(Path(place), shape, target.make.settings)
        for block in blocks:
            encoder.write(block)
        encoder.finish()


def _ceiling_seconds(name: str, sources: Sequence[Path], folder: Path, jobs: int) -> tuple[float, float]:
    """Encoding from memory on all cores at once plus decoding the sources alone; decoding the results alone."""
    gate = multiprocessing.Barrier(jobs + 1)
    suffix = encoding_for(measured_target(name).make.encoding).suffix
    places = [str(folder / f"{number}{suffix}") for number in range(len(sources))]
    workers = [
        multiprocessing.Process(target=_encode_from_memory, args=(name, str(sources[0]), places[job::jobs], gate))
        for job in range(jobs)
    ]
    for worker in workers:
        worker.start()
    gate.wait()
    encoding = _timed(lambda: [worker.join() for worker in workers])
    with multiprocessing.Pool(jobs) as pool:
        # A first round so that starting the processes is not counted.
        pool.map(_decode_only, [str(sources[0])] * jobs, chunksize=1)
        decoding = _timed(lambda: pool.map(_decode_only, [str(path) for path in sources], chunksize=1))
        proving = _timed(lambda: pool.map(_decode_only, places, chunksize=1))
    return encoding + decoding, proving


def _finish(events: Iterable[object]) -> None:
    outcomes = [event for event in events if isinstance(event, Outcome)]
    wrong = [outcome.error for outcome in outcomes if not outcome.ok]
    if wrong:
        raise SystemExit(f"A conversion failed: {wrong[0]}")


def _sources(folder: Path, minutes: float, suffix: str = ".flac", rate: int = 44_100) -> list[Path]:
    """One piece under eight names."""
    first = write_sound(folder / "src" / f"0{suffix}", round(rate * 60 * minutes), rate=rate)
    copies = [folder / "src" / f"{number}{suffix}" for number in range(1, FILES)]
    for copy in copies:
        shutil.copy(first, copy)
    return [first, *copies]


def measure_encoder(name: str, folder: Path) -> None:
    jobs, minutes = default_jobs(), ENCODERS[name][3]
    # A FLAC source for a FLAC target would be copied, so that one starts from ALAC's twin, WAV.
    # Opus knows 48 kHz only: sources of that rate, since the ceiling counts no change of rate.
    rate = 48_000 if name == "opus" else 44_100
    sources = _sources(folder, minutes, ".wav" if name == "flac" else ".flac", rate)
    target, plain, checked, proved = measured_target(name), [], [], []
    for turn in range(TURNS):
        (folder / f"c{turn}").mkdir()
        ceiling, proving = _ceiling_seconds(name, sources, folder / f"c{turn}", jobs)
        shutil.rmtree(folder / f"c{turn}")
        for checks in (False, True):
            out = folder / f"out{turn}{checks}"
            steps = forecast_batch(gather_sources([folder / "src"]), target, out).steps
            seconds = _timed(lambda s=steps, c=checks: _finish(run_steps(s, jobs=jobs, checks=c)))  # type: ignore[misc]
            (checked if checks else plain).append(ceiling / seconds)
            if checks:
                proved.append((ceiling + proving) / seconds)
            shutil.rmtree(out)
    sound, ratios = f"{FILES} x {minutes:g} min", (plain, checked, proved)
    print(f"| {name} | {sound} | " + " | ".join(f"{median(each):.2f}" for each in ratios) + " |", flush=True)


def _plain_script(source: str, place: str) -> None:
    """One file to MP3 as a user of PyAV would write it."""
    with av.open(source) as reading, av.open(place, "w", format="mp3") as writing:
        stream = writing.add_stream("libmp3lame", rate=44_100)
        stream.bit_rate = 192_000
        for frame in reading.decode(audio=0):
            frame.pts = None
            writing.mux(stream.encode(frame))
        writing.mux(stream.encode(None))


def measure_script(folder: Path) -> None:
    sources = _sources(folder, 1.0)
    steps = forecast_batch(gather_sources([folder / "src"]), measured_target("mp3"), folder / "out").steps
    ours = _timed(lambda: _finish(run_steps(steps, jobs=default_jobs())))
    script = _timed(lambda: [_plain_script(str(path), str(folder / f"{path.stem}.mp3")) for path in sources])
    print(f"MP3 against a plain one-process script: {script / ours:.1f} times as fast (aim 5)", flush=True)


def measured_targets(folder: Path) -> None:
    """Three plain targets from one decode of a source that is costly to decode, against three runs."""
    wav = write_sound(folder / "0.wav", 44_100 * 60 * 4)
    step = forecast_batch(gather_sources([wav]), find_target("pocket-alac"), folder / "src").steps[0]
    _finish(run_steps([step], jobs=1))
    for number in range(1, FILES):
        shutil.copy(step.output, folder / "src" / f"{number}.m4a")
    names = ("disc-wav", "disc-aiff", "plain-caf")
    caf = parse_target(
        'name = "CAF"\n[[accepts]]\ncodec = "pcm"\ncontainers = ["caf"]\n[make]\nencoding = "caf"\n', slug="plain-caf"
    )

    def plan(name: str, place: str) -> list[Step]:
        target = caf if name == "plain-caf" else find_target(name)
        return list(forecast_batch(gather_sources([folder / "src"]), target, folder / place / name).steps)

    ratios = []
    for turn in range(TURNS):
        apart = 0.0
        for name in names:
            single = plan(name, f"apart{turn}")
            apart += _timed(lambda s=single: _finish(run_steps(s, jobs=default_jobs())))  # type: ignore[misc]
        steps = [step for name in names for step in plan(name, f"together{turn}")]
        ratios.append(_timed(lambda s=steps: _finish(run_steps(s, jobs=default_jobs()))) / apart)  # type: ignore[misc]
    print(f"Three plain targets from one decode: {median(ratios):.2f} of three runs (aim 0.60)", flush=True)


def measure_disc(folder: Path) -> None:
    """An 80 minute image from FLAC, against decoding the same files and writing as many bytes."""
    tracks = 16
    seconds = (80 * 60 - 2 * (tracks - 1)) // tracks
    first = write_sound(folder / "0.flac", 44_100 * seconds)
    programmes = [programme_of(inspect_file(first), title=f"Track {n}") for n in range(tracks)]
    ratios, times = [], []
    for turn in range(TURNS):
        layout = lay_out(programmes, gap_sectors=150, medium=medium_for("80"))

        def floor(turn: int = turn, total: int = layout.total_sectors) -> None:
            with (folder / f"floor{turn}.bin").open("wb") as file:
                for _ in range(tracks):
                    with open_sound(first, programmes[0].choice) as sound:
                        for block in sound.blocks():
                            file.write(block.data)
                file.flush()
                os.fsync(file.fileno())

        least = _timed(floor)
        (folder / f"floor{turn}.bin").unlink()
        taken = _timed(lambda t=turn, lay=layout: write_image(lay, folder / f"out{t}", "disc"))  # type: ignore[misc]
        shutil.rmtree(folder / f"out{turn}")
        ratios.append(least / taken)
        times.append(taken)
    print(
        f"An 80 minute image from FLAC: {median(times):.1f} s (aim 30), ratio {median(ratios):.2f} (aim 0.80)",
        flush=True,
    )
    many = [replace(programmes[0], samples=44_100 * (30 + n % 20)) for n in range(99)]
    layout_seconds = median(_timed(lambda: lay_out(many, gap_sectors=150, medium=medium_for("80"))) for _ in range(9))
    print(f"A layout of 99 tracks: {layout_seconds * 1000:.1f} ms (aim 50)", flush=True)
    wide = [replace(programmes[0], samples=588 * (4_000 + n * 7919 % 30_000)) for n in range(500)]
    layout = lay_out(wide, gap_sectors=150, medium=medium_for("80"))
    fitting = _timed(lambda: (removals(layout), split(layout, medium_for("80"), how="free")))
    print(f"Offers and a free split of 500 tracks: {fitting:.2f} s (aim 1)", flush=True)


def measure_second_run(folder: Path) -> None:
    count = 10_000
    first = write_sound(folder / "src" / "0.wav", 500)
    for number in range(1, count):
        os.link(first, folder / "src" / f"{number}.wav")
    target, ledger = find_target("archive-flac"), ResultLedger(folder / "l.jsonl")
    sources = gather_sources([folder / "src"])
    plan = forecast_batch(sources, target, folder / "out", ledger=ledger)
    (folder / "out").mkdir()
    for step in plan.steps:
        Path(step.output).write_bytes(b"finished")
        note_landing(Outcome(step=step, ok=True), Path(step.output), ledgers={target.slug: ledger.path})

    def second() -> None:
        again = forecast_batch(
            gather_sources([folder / "src"]), target, folder / "out", ledger=ResultLedger(folder / "l.jsonl")
        )
        if any(step.reason != "up to date" for step in again.steps):
            raise SystemExit("Finished work was not recognised.")

    print(f"A second run over {count:,} finished files: {_timed(second):.1f} s (aim 5)", flush=True)


def measure_inspect(folder: Path) -> None:
    wav = write_sound(folder / "tree" / "a.wav", 44_100 * 30)
    for slug in ("archive-flac", "car-mp3", "pocket-aac", "open-opus", "open-vorbis"):
        step = forecast_batch(gather_sources([wav]), find_target(slug), folder / slug).steps[0]
        _finish(run_steps([step], jobs=1))
        shutil.move(step.output, folder / "tree")
    paths = sorted((folder / "tree").iterdir())
    ratios = []
    for _ in range(5):
        ours = _timed(lambda: [inspect_file(path) for _ in range(50) for path in paths])
        theirs = _timed(lambda: [mutagen.File(path) for _ in range(50) for path in paths])
        ratios.append(theirs / ours)
    print(
        f"Inspecting against mutagen reading the headers of {len(paths)} kinds: {median(ratios):.2f} (aim 1)",
        flush=True,
    )


def measure_deep(folder: Path) -> None:
    """The deep look against decoding alone, both in this process, two minutes of stereo."""
    wav = write_sound(folder / "a.wav", 44_100 * 120)
    for slug in ("archive-flac", "car-mp3", "open-opus"):
        step = forecast_batch(gather_sources([wav]), find_target(slug), folder / slug).steps[0]
        _finish(run_steps([step], jobs=1))
        facts, ratios, looks = inspect_file(Path(step.output)), [], []
        for _ in range(3):
            looks.append(_timed(lambda: inspect_deep(facts, picture_file=folder / "picture.npz")))  # noqa: B023
            ratios.append(_timed(lambda: _decode_all(facts)) / looks[-1])  # noqa: B023
        print(
            f"Decoding alone over the deep look, {slug}: {median(ratios):.2f} (aim 0.80); a look takes {median(looks):.2f} s"
        )


def _decode_all(facts: Facts) -> int:
    with open_sound(Path(facts.path), facts.choice()) as sound:
        return sum(len(block) for block in sound.blocks())


def measure_memory(folder: Path) -> None:
    """Peak memory of a process of its own that converts a minute, then five hours."""
    for minutes in (1, 300):
        source = _long_source(folder / f"{minutes}.wav", minutes)
        command = [sys.executable, "-m", "tests.measure.engine", "--memory-of", str(source)]
        peak = subprocess.run(command, capture_output=True, text=True, check=True).stdout.strip()
        print(
            f"Peak memory of converting {minutes} min of sound to FLAC with its check: {peak} MB (at most 200)",
            flush=True,
        )
        source.unlink()


def _long_source(path: Path, minutes: int) -> Path:
    minute = (np.random.default_rng(1).standard_normal((44_100 * 60, 2)) * 3000).astype(np.int16)
    with soundfile.SoundFile(path, "w", 44_100, 2, subtype="PCM_16", format="WAV") as file:
        for _ in range(minutes):
            file.write(minute)
    return path


def _memory_of(source: Path) -> None:
    from rumbrel.core.conversion import carry_out

    with tempfile.TemporaryDirectory() as out:
        plan = forecast_batch(gather_sources([source]), measured_target("flac"), Path(out))
        _finish([carry_out(step) for step in plan.steps])
    # VmHWM is this process's own; ru_maxrss would begin with the parent's.
    status = Path("/proc/self/status").read_text()
    print(next(int(line.split()[1]) // 1024 for line in status.splitlines() if line.startswith("VmHWM")))


def measured_limits(folder: Path) -> None:
    # What it imports would weigh on the memory that is measured in this process.
    from .limits import measure_limits

    measure_limits(folder)


def measured_proof(folder: Path) -> None:
    from .proof import measure_proof

    measure_proof(folder)


def measured_excerpt(folder: Path) -> None:
    from .excerpt import measure_excerpt

    measure_excerpt(folder)


REMADE = {"limits": measured_limits}
"""Not measured but made: only when asked for by name."""


def measured_masters(folder: Path) -> None:
    from .masters import measure_masters

    measure_masters(folder)


MEASURES: dict[str, Callable[[Path], None]] = {
    "excerpt": measured_excerpt,
    "script": measure_script,
    "targets": measured_targets,
    "disc": measure_disc,
    "second-run": measure_second_run,
    "inspect": measure_inspect,
    "deep": measure_deep,
    "memory": measure_memory,
    "proof": measured_proof,
    "masters": measured_masters,
}


def run(names: Sequence[str]) -> None:
    """Those of the names that are an encoder's or a measurement's of the engine."""
    encoders = [each for each in names if each in ENCODERS]
    if encoders:
        print("Ceiling over pipeline, middle of three turns (aims: 0.90 without the check, 0.80 with it).")
        print("The last column counts decoding the results into the ceiling, as the check must decode them.")
        print("| encoder | sound | without check | with check | of what a check allows |\n|---|---|---|---|---|")
    for name in encoders:
        with tempfile.TemporaryDirectory() as folder:
            measure_encoder(name, Path(folder))
    for name in [each for each in names if each in MEASURES or each in REMADE]:
        with tempfile.TemporaryDirectory() as folder:
            (MEASURES | REMADE)[name](Path(folder))


if __name__ == "__main__":
    # A process of its own, whose peak memory is to be told.
    _memory_of(Path(sys.argv[2]))
