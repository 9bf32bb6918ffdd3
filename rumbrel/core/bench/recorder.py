"""The stand-in recorder: writes a layout as an image through the steps of a real write."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.disc.image import DiscImage, TrackVerdict, read_back, write_image
from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.errors import DiscError

__all__ = ["RecorderReport", "StandInRecorder"]

Report = Callable[[str, float], None]
"""Called with the step's name and the share done of the whole, 0.0 to 1.0."""


@dataclass(frozen=True, slots=True, kw_only=True)
class RecorderReport:
    """What a write yielded. simulated_seconds is how long a real recorder would have taken."""

    image: DiscImage
    verdicts: tuple[TrackVerdict, ...]
    simulated_seconds: float

    @property
    def equal(self) -> bool:
        return all(verdict.equal for verdict in self.verdicts)


@dataclass(frozen=True, slots=True, kw_only=True)
class StandInRecorder:
    """Writes and reads back; nothing is written above the medium's rated speeds."""

    speed: int

    def write(self, layout: DiscLayout, folder: Path, name: str, report: Report) -> RecorderReport:
        """Write, close, read back. Raises DiscError, OutputError, DecodeError or Cancelled."""
        if self.speed not in layout.medium.speeds:
            speeds = ", ".join(f"{speed}x" for speed in layout.medium.speeds)
            raise DiscError(f"The {layout.medium.label} is rated for {speeds}, not for {self.speed}x.")
        total = max(1, layout.total_sectors)
        image = write_image(layout, folder, name, report=lambda done: report("writing", 0.8 * done / total))
        verdicts = read_back(image, report=lambda done: report("reading back", 0.8 + 0.2 * done / total))
        seconds = layout.medium.write_seconds(layout.total_sectors, self.speed)
        return RecorderReport(image=image, verdicts=verdicts, simulated_seconds=seconds)
