"""The stand-in recorder: takes a layout through the steps of a real write and leaves an image."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rumbrel.core.disc.image import DiscImage, TrackVerdict, read_back, write_image
from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.media import CLOSING_SECONDS, LEAD_IN_SECONDS, LEAD_OUT_SECONDS, Medium
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, SECTORS_PER_SECOND
from rumbrel.core.disc.stream import disc_stream
from rumbrel.core.disc.text import DiscText
from rumbrel.core.errors import DiscError, RumbrelError
from rumbrel.core.progress import Progress, Report, Unit

from .blanks import Blank, BlankState

__all__ = ["RecorderReport", "RecorderStep", "StandInRecorder", "steps_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class RecorderStep:
    """A step of a write and how long a real recorder takes for it."""

    name: str
    seconds: float


def steps_of(
    layout: DiscLayout, speed: int, *, trial: bool = False, reads_back: bool = True
) -> tuple[RecorderStep, ...]:
    """The steps of a write at a speed; a trial goes through the same with the laser off."""
    sound = layout.total_sectors / (SECTORS_PER_SECOND * speed)
    steps = [
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
    """What a write yielded. simulated_seconds is how long a real recorder would have taken.

    blank is the disc afterwards; image is None after a trial, and where it did not read back.
    """

    image: DiscImage | None
    verdicts: tuple[TrackVerdict, ...]
    simulated_seconds: float
    blank: Blank

    @property
    def equal(self) -> bool:
        return all(verdict.equal for verdict in self.verdicts)

    @property
    def said(self) -> str:
        """How the read-back went, in words."""
        wrong = [str(verdict.number) for verdict in self.verdicts if not verdict.equal]
        if not self.verdicts:
            return "Not read back: only an image in BIN is."
        if not wrong:
            tracks = "the track is" if len(self.verdicts) == 1 else f"all {len(self.verdicts)} tracks are"
            return f"Read back: {tracks} identical, sample for sample."
        tracks = f"Track {wrong[0]} does" if len(wrong) == 1 else f"Tracks {', '.join(wrong)} do"
        return f"{tracks} not read back as written, so the image was not kept. Write it again, at a lower speed."


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
    ) -> RecorderReport:
        """Write, close, read back; an image that does not read back is not kept. Raises DiscError, OutputError,
        DecodeError or Cancelled; whatever is raised once the laser is on spoils the disc."""
        disc = blank or Blank(medium=layout.medium)
        self._check(disc, layout.medium)
        total = max(1, layout.total_sectors)
        paced = _Paced(self.pace, self.speed, report, total)
        verdicts: list[TrackVerdict] = []

        def proved(written: DiscImage) -> bool:
            if image_format == "bin":
                self._spoil(layout, written)
                verdicts.extend(read_back(written, report=paced.reading))
            return all(verdict.equal for verdict in verdicts)

        image = write_image(
            layout, folder, name, text=text, image_format=image_format, report=paced.writing, prove=proved,
            replaces=replaces,
        )  # fmt: skip
        seconds = sum(step.seconds for step in steps_of(layout, self.speed, reads_back=False))
        equal = all(verdict.equal for verdict in verdicts)
        after = disc.after(BlankState.WRITTEN if equal else BlankState.SPOILED)
        return RecorderReport(
            image=image if equal else None, verdicts=tuple(verdicts), simulated_seconds=seconds, blank=after
        )

    def trial(self, layout: DiscLayout, report: Report, *, blank: Blank | None = None) -> RecorderReport:
        """The whole way with the laser off: every source is decoded, nothing is written or spoiled."""
        disc = blank or Blank(medium=layout.medium)
        self._check(disc, layout.medium)
        total, done = max(1, layout.total_sectors), 0
        paced = _Paced(self.pace, self.speed, report, total)
        for part in disc_stream(layout):
            done += len(part.block) * 4
            paced.trying(done // BYTES_PER_SECTOR)
        seconds = sum(step.seconds for step in steps_of(layout, self.speed, trial=True))
        return RecorderReport(image=None, verdicts=(), simulated_seconds=seconds, blank=disc)

    def _check(self, disc: Blank, medium: Medium) -> None:
        disc.check_writable()
        if disc.medium.capacity_sectors < medium.capacity_sectors:
            raise DiscError(f"The tray holds a {disc.medium.label}, the disc is laid out for a {medium.label}.")
        if self.speed not in disc.medium.speeds:
            speeds = ", ".join(f"{speed}x" for speed in disc.medium.speeds)
            raise DiscError(f"The {disc.medium.label} is rated for {speeds}, not for {self.speed}x.")

    def _spoil(self, layout: DiscLayout, image: DiscImage) -> None:
        """Above the safe speed, a sector may come out wrong: more often the faster, decided by the seed."""
        excess = self.speed / layout.medium.safe_speed - 1
        random = np.random.default_rng([self.seed, self.speed])
        if excess <= 0 or random.random() >= min(0.9, 0.5 * excess) or not self.seed:
            return
        sector = int(random.integers(layout.tracks[0].start_sector, layout.total_sectors))
        try:
            with image.bin_path.open("r+b") as file:
                file.seek(sector * BYTES_PER_SECTOR)
                file.write(random.bytes(BYTES_PER_SECTOR))
        except OSError as error:
            raise RumbrelError(f"The image could not be changed: {error.strerror}.") from error


class _Paced:
    """Passes progress on, and takes its time where a real pace is wanted."""

    def __init__(self, pace: Callable[[float], None] | None, speed: int, report: Report, total: int) -> None:
        self._pace, self._speed, self._report, self._total = pace, speed, report, total
        self._done = 0

    def _take(self, name: str, done: int, share: float) -> None:
        self._report(Progress(done=share * self._total, total=self._total, unit=Unit.SECTORS, step=name))
        if self._pace is not None and done > self._done:
            self._pace((done - self._done) / (SECTORS_PER_SECOND * self._speed))
        self._done = done

    def writing(self, progress: Progress) -> None:
        self._take("writing", int(progress.done), 0.8 * progress.share)

    def reading(self, progress: Progress) -> None:
        self._take("reading back", int(progress.done), 0.8 + 0.2 * progress.share)

    def trying(self, done: int) -> None:
        self._take("test write", done, done / self._total)
