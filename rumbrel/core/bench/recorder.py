"""The stand-in recorder: takes a layout through the steps of a real write and leaves an image."""

import math
from bisect import bisect_right
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rumbrel.core.disc.image import DiscImage, ReadBack, TrackVerdict, read_back, write_image
from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.media import CLOSING_SECONDS, LEAD_IN_SECONDS, LEAD_OUT_SECONDS, Medium
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, SECTORS_PER_SECOND
from rumbrel.core.disc.stream import disc_stream
from rumbrel.core.disc.text import DiscText
from rumbrel.core.errors import DiscError, RumbrelError
from rumbrel.core.progress import Progress, Report, Unit

from .blanks import Blank, BlankState

__all__ = [
    "RECORDERS",
    "RecorderKind",
    "RecorderReport",
    "RecorderStep",
    "StandInRecorder",
    "step_shares",
    "TrayOpened",
    "recorder_for",
    "steps_of",
]


class TrayOpened(DiscError):
    """The tray was opened while the laser was on."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RecorderKind:
    """A stand-in recorder: it writes no faster than fastest, and tries beforehand where tests says so."""

    key: str
    label: str
    fastest: int
    tests: bool = True

    def speeds_for(self, medium: Medium) -> tuple[int, ...]:
        """The speeds at which it writes a medium."""
        return tuple(speed for speed in medium.speeds if speed <= self.fastest)


RECORDERS: tuple[RecorderKind, ...] = (
    RecorderKind(key="quick", label="quick recorder, up to 48x", fastest=48),
    RecorderKind(key="old", label="old recorder, up to 8x, without test write", fastest=8, tests=False),
)


def recorder_for(key: str) -> RecorderKind:
    """The recorder of a key. Raises DiscError naming those there are."""
    for kind in RECORDERS:
        if kind.key == key:
            return kind
    raise DiscError(f"There is no recorder '{key}'. There are: {', '.join(kind.key for kind in RECORDERS)}.")


@dataclass(frozen=True, slots=True, kw_only=True)
class RecorderStep:
    """A step of a write and how long a real recorder takes for it."""

    name: str
    seconds: float


def steps_of(sectors: int, speed: int, *, trial: bool = False, reads_back: bool = True) -> tuple[RecorderStep, ...]:
    """The steps of a write of so many sectors at a speed; a trial goes through the same with the laser off."""
    sound = sectors / (SECTORS_PER_SECOND * speed)
    steps = [
        RecorderStep(name="making ready", seconds=0.0),
        RecorderStep(name="lead-in", seconds=LEAD_IN_SECONDS / speed),
        RecorderStep(name="writing", seconds=sound),
        RecorderStep(name="lead-out", seconds=LEAD_OUT_SECONDS / speed),
    ]
    if not trial:
        steps.append(RecorderStep(name="closing", seconds=CLOSING_SECONDS))
        if reads_back:
            steps.append(RecorderStep(name="reading back", seconds=sound))
    return tuple(steps)


@dataclass(frozen=True, slots=True, kw_only=True)
class RecorderReport:
    """What a write yielded. read is what reading all of it back told, None where that was not done; simulated_seconds is
    how long a real recorder would have taken.

    blank is the disc afterwards; image is None after a trial, and where it did not read back.
    """

    image: DiscImage | None
    read: ReadBack | None
    simulated_seconds: float
    blank: Blank

    @property
    def verdicts(self) -> tuple[TrackVerdict, ...]:
        return self.read.tracks if self.read else ()

    @property
    def equal(self) -> bool:
        return self.read is None or self.read.equal

    @property
    def said(self) -> str:
        """How the read-back went, in words."""
        if self.read is None:
            return "Not read back: only an image in BIN is."
        if self.equal:
            return "Read back: the disc is identical, every sector from 0 to the lead-out, its subcode and its CD-Text."
        differences = self.read.differences
        more = f", and {len(differences) - 3} more" if len(differences) > 3 else ""
        return (
            f"Not read back as written: {', '.join(differences[:3])}{more}. The image was not kept. Write it again, at a "
            "lower speed."
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class StandInRecorder:
    """Writes and reads back; nothing is written above the medium's rated speeds.

    seed decides over the faults of discs written faster than they are safe for: the same seed spoils
    the same sector. pace is called with the seconds a real recorder would take for each part of the
    work; None works at full speed.
    """

    speed: int
    seed: int = 0
    pace: Callable[[float], None] | None = None

    def write(
        self,
        layout: DiscLayout,
        folder: Path,
        name: str,
        report: Report,
        *,
        text: DiscText | None = None,
        image_format: str = "bin",
        blank: Blank | None = None,
        replaces: bool = False,
        packs: bytes | None = None,
    ) -> RecorderReport:
        """Write, close, read back; an image that does not read back is not kept. Raises DiscError, OutputError,
        DecodeError or Cancelled; whatever is raised once the laser is on spoils the disc."""
        disc = blank or Blank(medium=layout.medium)
        self._check(disc, layout.medium)
        paced = _Paced(self.pace, self.speed, report, layout)
        reads: list[ReadBack] = []

        def proved(written: DiscImage) -> bool:
            paced.burn(layout)
            if image_format == "bin":
                self._spoil(layout, written, disc)
                reads.append(read_back(written, report=paced.reading))
            return all(read.equal for read in reads)

        image = write_image(
            layout, folder, name, text=text, image_format=image_format, report=paced.making_ready, prove=proved,
            replaces=replaces, packs=packs,
        )  # fmt: skip
        seconds = sum(step.seconds for step in steps_of(layout.total_sectors, self.speed, reads_back=False))
        equal = all(read.equal for read in reads)
        after = disc.after(BlankState.WRITTEN if equal else BlankState.SPOILED)
        return RecorderReport(
            image=image if equal else None, read=reads[0] if reads else None, simulated_seconds=seconds, blank=after
        )

    def trial(self, layout: DiscLayout, report: Report, *, blank: Blank | None = None) -> RecorderReport:
        """The whole way with the laser off: every source is decoded, nothing is written or spoiled."""
        disc = blank or Blank(medium=layout.medium)
        self._check(disc, layout.medium)
        done = 0
        paced = _Paced(self.pace, self.speed, report, layout, trial=True)
        for part in disc_stream(layout):
            done += len(part.block) * 4
            paced.making_ready(Progress(done=done // BYTES_PER_SECTOR, total=paced.total, unit=Unit.SECTORS))
        paced.burn(layout)
        seconds = sum(step.seconds for step in steps_of(layout.total_sectors, self.speed, trial=True))
        return RecorderReport(image=None, read=None, simulated_seconds=seconds, blank=disc)

    def _check(self, disc: Blank, medium: Medium) -> None:
        disc.check_writable()
        if disc.medium.capacity_sectors < medium.capacity_sectors:
            raise DiscError(f"The tray holds {disc.medium.a_label}, the disc is laid out for {medium.a_label}.")
        if self.speed not in disc.medium.speeds:
            speeds = ", ".join(f"{speed}x" for speed in disc.medium.speeds)
            raise DiscError(f"The {disc.medium.label} is rated for {speeds}, not for {self.speed}x.")

    def _spoil(self, layout: DiscLayout, image: DiscImage, disc: Blank) -> None:
        """Above the safe speed, a sector may come out wrong: more often the faster, decided by the seed. Above the
        speed at which a bad blank fails, one does."""
        excess = self.speed / layout.medium.safe_speed - 1
        random = np.random.default_rng([self.seed, self.speed])
        unlucky = excess > 0 and bool(self.seed) and random.random() < min(0.9, 0.5 * excess)
        if not (unlucky or (disc.fails_above is not None and self.speed > disc.fails_above)):
            return
        sector = int(random.integers(0, layout.total_sectors))
        try:
            with image.bin_path.open("r+b") as file:
                file.seek(sector * BYTES_PER_SECTOR)
                file.write(random.bytes(BYTES_PER_SECTOR))
        except OSError as error:
            raise RumbrelError(f"The image could not be changed: {error.strerror}.") from error


class _Paced:
    """Passes progress on, and takes its time where a real pace is wanted. parts of the progress are the track that
    the work is at, by its number, with the share done of it."""

    def __init__(
        self,
        pace: Callable[[float], None] | None,
        speed: int,
        report: Report,
        layout: DiscLayout,
        *,
        trial: bool = False,
    ) -> None:
        self._pace, self._speed, self._report = pace, speed, report
        self.total = max(1, layout.total_sectors)
        self._tracks = layout.tracks
        self._starts = [track.start_sector - track.gap_sectors for track in layout.tracks]
        self._shares = step_shares(layout.total_sectors, speed, trial=trial, paced=pace is not None)
        self._done = 0

    def _take(self, name: str, done: float) -> None:
        """At a sector of a step."""
        first, last = self._shares[name]
        share = first + (last - first) * min(1.0, done / self.total)
        at = max(0, bisect_right(self._starts, done) - 1)
        track = self._tracks[at]
        within = min(1.0, max(0.0, (done - track.start_sector) / max(1, track.sectors)))
        self._report(
            Progress(
                done=share * self.total, total=self.total, unit=Unit.SECTORS, step=name,
                parts=((track.number, within),) if last > first and name in _OF_TRACKS else (),
            )
        )  # fmt: skip

    def _wait(self, name: str, seconds: float, done: float, end: float) -> None:
        """Go from one sector of a step to another in so many seconds, telling on the way: whatever that raises ends it."""
        if self._pace is None:
            return
        pieces = max(1, math.ceil(seconds / _SECONDS_BETWEEN_REPORTS))
        for piece in range(pieces):
            self._pace(seconds / pieces)
            self._take(name, done + (end - done) * (piece + 1) / pieces)

    def making_ready(self, progress: Progress) -> None:
        self._take("making ready", int(progress.done))

    def burn(self, layout: DiscLayout) -> None:
        """The laser's way over the disc. Whatever its report raises ends it there."""
        for step, seconds in (("lead-in", LEAD_IN_SECONDS), ("writing", 0), ("lead-out", LEAD_OUT_SECONDS)):
            self._take(step, 0)
            if step != "writing":
                self._wait(step, seconds / self._speed, 0, self.total)
                continue
            for at in range(0, layout.total_sectors, _BURN_SECTORS):
                self._take(step, at)
                count = min(_BURN_SECTORS, layout.total_sectors - at)
                self._wait(step, count / (SECTORS_PER_SECOND * self._speed), at, at + count)
        if "closing" in self._shares:
            self._take("closing", self.total)
            self._wait("closing", CLOSING_SECONDS, 0, self.total)

    def reading(self, progress: Progress) -> None:
        done = int(progress.done)
        self._take("reading back", done)
        self._wait("reading back", max(0, done - self._done) / (SECTORS_PER_SECOND * self._speed), self._done, done)
        self._done = done


def step_shares(sectors: int, speed: int, *, trial: bool, paced: bool) -> Mapping[str, tuple[float, float]]:
    """Which part of the whole work each step is: from which share of it to which. paced is for a recorder that takes as
    long as a real one."""
    if not paced:
        return _TRIAL_SHARES if trial else _SHARES
    steps = steps_of(sectors, speed, trial=trial)
    total = sum(step.seconds for step in steps) or 1.0
    found: dict[str, tuple[float, float]] = {}
    at = 0.0
    for step in steps:
        # Making ready takes what this machine takes for it; a twentieth stands for that.
        share = _MAKING_READY if step.name == "making ready" else (1 - _MAKING_READY) * step.seconds / total
        found[step.name] = (at, min(1.0, at + share))
        at += share
    return found


_MAKING_READY = 0.05
_SECONDS_BETWEEN_REPORTS = 0.25
_OF_TRACKS = frozenset({"making ready", "writing", "reading back"})
_BURN_SECTORS = 750
_SHARES = {
    "making ready": (0.0, 0.4), "lead-in": (0.4, 0.4), "writing": (0.4, 0.7), "lead-out": (0.7, 0.7),
    "closing": (0.7, 0.7), "reading back": (0.7, 1.0),
}  # fmt: skip
"""Which part of the whole work each step is."""
_TRIAL_SHARES = {"making ready": (0.0, 0.6), "lead-in": (0.6, 0.6), "writing": (0.6, 1.0), "lead-out": (1.0, 1.0)}
