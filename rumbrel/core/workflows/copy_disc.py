"""Copy a disc as it is: samples, gaps with their sound, hidden sound, indexes, flags, codes and CD-Text."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from rumbrel.core.bench.blanks import Blank
from rumbrel.core.bench.image_disc import open_image
from rumbrel.core.disc.cue_sheet import quoted
from rumbrel.core.disc.image import DiscImage
from rumbrel.core.disc.proof import MarkMaker
from rumbrel.core.disc.reading import Contents, ContentsTrack, DiscDrive, TrackReading, read_track, with_hidden
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, format_msf
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError
from rumbrel.core.files import output_errors
from rumbrel.core.progress import Progress, Report, Unit, no_report

from .design_disc import DesignPlan
from .gather_disc import plan_sheet
from .make_disc import write_plan

__all__ = ["CopyLine", "CopyReport", "SourceDisc", "copy_lines", "plan_copy", "read_whole_disc", "write_copy"]

_READ_SECTORS = 750


@dataclass(frozen=True, slots=True, kw_only=True)
class SourceDisc:
    """A disc that was read whole: its sheet with one BIN beside it, what its lead-in states, and how it was read."""

    sheet: Path
    contents: Contents
    readings: tuple[TrackReading, ...] = ()

    @property
    def bin_path(self) -> Path:
        return open_image(self.sheet).image_path


@dataclass(frozen=True, slots=True, kw_only=True)
class CopyLine:
    """Something a disc consists of, and whether the copy has the same; there is none of it where there is False."""

    what: str
    same: bool
    there: bool = True

    def as_record(self) -> dict[str, Any]:
        return {"what": self.what, "same": self.same, "there": self.there}


@dataclass(frozen=True, slots=True, kw_only=True)
class CopyReport:
    """What was written, and each thing that the disc consists of held against it."""

    image: DiscImage
    lines: tuple[CopyLine, ...]
    simulated_seconds: float

    @property
    def identical(self) -> bool:
        return all(line.same for line in self.lines)


def read_whole_disc(drive: DiscDrive, work: Path, report: Report = no_report) -> SourceDisc:
    """Every sector from address 0 to the lead-out, read with proof into a folder. Raises DiscError where not all of it
    could be read alike, and OutputError."""
    contents = drive.contents()
    whole = with_hidden(contents) if contents.tracks[0].start_sector else contents
    readings: list[TrackReading] = []
    progress = Progress(done=0, total=contents.lead_out_sector, unit=Unit.SECTORS)
    done = 0

    def told(sectors: int) -> None:
        nonlocal done
        done += sectors
        report(replace(progress, done=done, step=f"reading track {whole.tracks[len(readings)].number}"))

    with output_errors(work), (work / "disc.bin").open("wb") as file:
        for position in range(len(whole.tracks)):
            blocks, account = read_track(drive, whole, position, progress=told)
            for block in blocks:
                file.write(block)
            readings.append(account())
    _refuse_doubt(readings)
    sheet = work / "disc.cue"
    with output_errors(work):
        (work / "disc.cdt").write_bytes(contents.text)
        sheet.write_text(_sheet_of(contents), encoding="utf-8")
    return SourceDisc(sheet=sheet, contents=contents, readings=tuple(readings))


def _refuse_doubt(readings: Sequence[TrackReading]) -> None:
    for reading in readings:
        if reading.failed:
            first = format_msf(reading.failed[0])
            raise DiscError(
                f"Nothing was written: {len(reading.failed):,} sectors could not be read, the first at {first} (m:s:f) in "
                f"track {reading.number}. Clean the disc and try again, or take it in to listen to what there is."
            )
        if reading.unreached_samples:
            raise DiscError(
                f"Nothing was written: {reading.unreached_samples:,} samples at the disc's edge lie beyond this drive's "
                "reach. Put the disc into a drive that reads beyond the edges."
            )


def _sheet_of(contents: Contents) -> str:
    """The cue sheet of a disc in one BIN, by what its lead-in and subcode state and its own sheet says."""
    said = contents.said
    lines = [f"CATALOG {contents.product_code}"] if contents.product_code else []
    lines += ['CDTEXTFILE "disc.cdt"'] if contents.text else []
    lines += _texts(said.disc, "") if said else []
    lines.append('FILE "disc.bin" BINARY')
    for position, track in enumerate(contents.tracks):
        lines += _track_lines(track, said, position)
    return "\n".join(lines) + "\n"


def _texts(text: TrackText, indent: str) -> list[str]:
    named = (("TITLE", text.title), ("PERFORMER", text.performer), ("SONGWRITER", text.songwriter))
    return [f"{indent}{key} {quoted(value)}" for key, value in named if value]


def _track_lines(track: ContentsTrack, said: DiscText | None, position: int) -> list[str]:
    lines = [f"  TRACK {track.number:02d} AUDIO"]
    lines += _texts(said.tracks[position], "    ") if said else []
    lines += [f"    ISRC {track.isrc}"] if track.isrc else []
    flags = [word for word, is_set in (("DCP", track.copy_permitted), ("PRE", track.pre_emphasis)) if is_set]
    lines += [f"    FLAGS {' '.join(flags)}"] if flags else []
    # What lies before track 1 is its gap, in which sound may be hidden.
    gap = track.start_sector if position == 0 else track.gap_sectors
    marks = [track.start_sector, *track.index_sectors]
    lines += [f"    INDEX 00 {format_msf(track.start_sector - gap, pad_minutes=True)}"] if gap else []
    return lines + [f"    INDEX {number:02d} {format_msf(at, pad_minutes=True)}" for number, at in enumerate(marks, 1)]


def plan_copy(source: SourceDisc, *, title: str) -> DesignPlan:
    """That very disc, on the smallest blank that holds it. Raises DiscError."""
    plan = plan_sheet(source.sheet, title=title)
    if plan.failed is not None:
        raise DiscError(f"The disc cannot be copied: {plan.failed.text}.")
    return plan


def write_copy(
    source: SourceDisc,
    plan: DesignPlan,
    folder: Path,
    name: str,
    *,
    speed: int,
    blank: Blank | None = None,
    report: Report = no_report,
    pace: Callable[[float], None] | None = None,
) -> CopyReport:
    """Write it, read it back, and hold all that it consists of against the source. Raises DiscError, OutputError."""
    written = write_plan(
        plan,
        folder,
        name,
        speed=speed,
        replaces=True,
        blank=blank,
        report=report,
        packs=source.contents.text,
        pace=pace,
    )
    if written.image is None:
        raise DiscError(written.said)
    lines = copy_lines(source, written.image)
    return CopyReport(image=written.image, lines=lines, simulated_seconds=written.simulated_seconds)


def copy_lines(source: SourceDisc, image: DiscImage) -> tuple[CopyLine, ...]:
    """Everything that a disc consists of, and whether an image has it as the source does."""
    one, other = source.contents, open_image(image.cue_path).contents
    marks = image.marks
    maker = MarkMaker(marks.regions)
    with source.bin_path.open("rb") as file:
        while block := file.read(_READ_SECTORS * BYTES_PER_SECTOR):
            maker.push_sound(block)
    read = maker.marks(packs=one.text)
    alike = [a == b for a, b in zip(marks.digests, read.digests, strict=True)]
    length = len(read.sound) == len(marks.sound)
    by_kind = {
        kind: [same for same, region in zip(alike, marks.regions, strict=True) if _kind(region.in_gap, region.number) == kind]
        for kind in ("track", "gap", "hidden")
    }  # fmt: skip
    pairs = list(zip(one.tracks, other.tracks, strict=False))
    count = len(one.tracks) == len(other.tracks)

    def of_each(*names: str) -> bool:
        return count and all(getattr(a, name) == getattr(b, name) for a, b in pairs for name in names)

    return (
        CopyLine(what="samples of the tracks", same=length and all(by_kind["track"])),
        CopyLine(what="gaps with their sound", same=all(by_kind["gap"]), there=bool(by_kind["gap"])),
        CopyLine(what="what lies before track 1", same=all(by_kind["hidden"]), there=bool(by_kind["hidden"])),
        CopyLine(what="where tracks begin", same=of_each("start_sector") and one.lead_out_sector == other.lead_out_sector),
        CopyLine(what="indexes", same=of_each("index_sectors"), there=any(t.index_sectors for t in one.tracks)),
        CopyLine(what="copy permission", same=of_each("copy_permitted"), there=any(t.copy_permitted for t in one.tracks)),
        CopyLine(what="pre-emphasis", same=of_each("pre_emphasis"), there=any(t.pre_emphasis for t in one.tracks)),
        CopyLine(what="ISRC", same=of_each("isrc"), there=any(t.isrc for t in one.tracks)),
        CopyLine(what="UPC/EAN", same=one.product_code == other.product_code, there=bool(one.product_code)),
        CopyLine(what="CD-Text, pack by pack", same=one.text == other.text, there=bool(one.text)),
    )  # fmt: skip


def _kind(in_gap: bool, number: int) -> str:
    return "track" if not in_gap else "hidden" if number == 1 else "gap"
