"""What an inlay says."""

from dataclasses import dataclass

from rumbrel.core.disc.layout import DiscLayout, radius_mm
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.disc.text import DiscText

__all__ = ["InlayContents", "InlayTrack", "minutes_text"]


def minutes_text(seconds: float) -> str:
    """m:ss, as listeners read a length."""
    hours, rest = divmod(round(seconds), 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60}:{rest % 60:02d}"


@dataclass(frozen=True, slots=True, kw_only=True)
class InlayTrack:
    """seconds is how long it is heard; start_sector and sectors place it on the ruler, from_mm and to_mm on the disc."""

    number: int
    title: str
    performer: str
    seconds: float
    start_sector: int
    sectors: int
    from_mm: float
    to_mm: float

    @property
    def time(self) -> str:
        return minutes_text(self.seconds)


@dataclass(frozen=True, slots=True, kw_only=True)
class InlayContents:
    """performers are told for each track where they differ. seconds is what the foot states, kind what beside it. A step
    of the ruler is so many sectors, a minute of sound or a megabyte of files, and every so many of them has its number."""

    title: str
    performer: str
    tracks: tuple[InlayTrack, ...]
    seconds: float
    total_sectors: int
    capacity_sectors: int
    product_code: str = ""
    kind: str = ""
    step_sectors: float = 60 * SECTORS_PER_SECOND
    steps_apart: int = 10

    @classmethod
    def of(cls, layout: DiscLayout, text: DiscText) -> "InlayContents":
        """What a disc that was laid out says of itself."""
        performers = {track.programme.performer for track in layout.tracks}
        tracks = tuple(
            InlayTrack(
                number=track.number, title=track.programme.title,
                performer=track.programme.performer if len(performers) > 1 else "",
                seconds=track.sectors / SECTORS_PER_SECOND, start_sector=track.start_sector, sectors=track.sectors,
                from_mm=radius_mm(track.start_sector, pitch_um=layout.medium.pitch_um),
                to_mm=radius_mm(track.end_sector, pitch_um=layout.medium.pitch_um),
            )
            for track in layout.tracks
        )  # fmt: skip
        return cls(
            title=text.disc.title, performer=text.disc.performer, tracks=tracks,
            seconds=layout.total_sectors / SECTORS_PER_SECOND, total_sectors=layout.total_sectors,
            capacity_sectors=layout.medium.capacity_sectors, product_code=text.product_code,
            steps_apart=10 if layout.medium.capacity_sectors > 30 * 60 * SECTORS_PER_SECOND else 5,
        )  # fmt: skip

    @property
    def total(self) -> str:
        return minutes_text(self.seconds) + (f", {self.kind}" if self.kind else "")
