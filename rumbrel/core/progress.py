"""How far work has come: one value, from the innermost loop to the screen."""

import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, replace
from enum import StrEnum

__all__ = ["Pace", "Progress", "Report", "Throttle", "Unit", "no_report", "within"]


class Unit(StrEnum):
    """What is counted."""

    SECONDS = "seconds"
    """of sound"""
    SECTORS = "sectors"
    BYTES = "bytes"
    FILES = "files"
    TRACKS = "tracks"


@dataclass(frozen=True, slots=True, kw_only=True)
class Progress:
    """done and total in units of unit; step names what is being done, in words for the user.

    finished and items count whole things where the unit counts something finer, 0 where they are one.
    parts are the ids of the things under way with the share done of each.
    """

    done: float
    total: float
    unit: Unit
    step: str = ""
    finished: int = 0
    items: int = 0
    parts: tuple[tuple[int, float], ...] = ()

    @property
    def share(self) -> float:
        """0.0 to 1.0."""
        return min(1.0, max(0.0, self.done / self.total)) if self.total > 0 else 0.0


Report = Callable[[Progress], None]
"""Called as work goes on; whoever wants the work to stop raises Cancelled from it."""


def no_report(progress: Progress) -> None:
    """For those who do not want to know."""
    return


def within(report: Report, whole: Progress, start: float, end: float) -> Report:
    """A report for a part of the work, which takes the shares from start to end of the whole."""

    def told(progress: Progress) -> None:
        share = start + (end - start) * progress.share
        report(replace(whole, done=share * whole.total, step=progress.step or whole.step))

    return told


class Throttle:
    """Passes reports on a few times a second, and at once where the step changes or the work is done."""

    def __init__(self, report: Report, *, every_seconds: float) -> None:
        self._report = report
        self._every = every_seconds
        self._last = float("-inf")
        self._step: str | None = None

    def __call__(self, progress: Progress) -> None:
        now = time.monotonic()
        if now - self._last < self._every and progress.step == self._step and progress.done < progress.total:
            return
        self._last, self._step = now, progress.step
        self._report(progress)


class Pace:
    """How fast work goes by now. What is longer ago than the window is forgotten, so that neither a quick beginning nor
    what an earlier run had done promises anything."""

    WINDOW_SECONDS = 30.0
    _LEAST_SECONDS = 2.0

    def __init__(self) -> None:
        self._seen: deque[tuple[float, Progress]] = deque()

    def seconds_left(self, progress: Progress) -> float | None:
        """None until enough was seen. Another step, or another total, is other work."""
        now = time.monotonic()
        if self._seen and (self._seen[-1][1].step, self._seen[-1][1].total) != (progress.step, progress.total):
            self._seen.clear()
        self._seen.append((now, progress))
        while now - self._seen[0][0] > self.WINDOW_SECONDS:
            self._seen.popleft()
        seconds, first = now - self._seen[0][0], self._seen[0][1]
        if seconds < self._LEAST_SECONDS or progress.done <= first.done:
            return None
        return max(0.0, progress.total - progress.done) * seconds / (progress.done - first.done)
