"""Progress of a command on a terminal: one line on stderr that is written over; nothing where none looks."""

import sys
import time

from rumbrel.core.progress import Pace, Progress, Throttle, Unit

__all__ = ["ProgressLine", "about"]


def about(seconds: float) -> str:
    """A time as exact as a guess may be."""
    if seconds < 90:
        step = 1 if seconds < 10 else 5
        return f"about {max(1, round(seconds / step)) * step} s"
    minutes = round(seconds / 60)
    return f"about {minutes} min" if minutes < 90 else f"about {minutes // 60} h {minutes % 60} min"


class ProgressLine:
    """Call it with Progress; clear it before other lines are written and at the end."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self._step = ""
        self._pace = Pace()
        self._shows = sys.stderr.isatty()
        self._throttled = Throttle(self._show, every_seconds=0.25)

    def __call__(self, progress: Progress) -> None:
        if self._shows:
            self._throttled(progress)

    def _show(self, progress: Progress) -> None:
        if progress.step != self._step:
            self._step, self._begun = progress.step, time.monotonic()
        elapsed = time.monotonic() - self._begun
        line = f"\r{progress.step} {100 * progress.share:.0f} %"
        if progress.items:
            line += f", {progress.finished} of {progress.items}"
        if elapsed > 1 and progress.done:
            if progress.unit is Unit.SECONDS:
                line += f", {progress.done / elapsed:.0f} times real time"
        left = self._pace.seconds_left(progress)
        if left is not None:
            line += f", {about(left)} left"
        sys.stderr.write(f"{line}   ")
        sys.stderr.flush()

    def clear(self) -> None:
        if self._shows and self._step:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()
