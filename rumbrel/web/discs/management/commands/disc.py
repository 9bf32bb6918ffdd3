"""./run disc: lists, cue sheets or files as a disc."""

import math
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from django.core.management.base import CommandError, CommandParser

from rumbrel.core.bench.recorder import StandInRecorder
from rumbrel.core.conversion import default_jobs
from rumbrel.core.disc.checklist import Finding, checklist
from rumbrel.core.disc.data_disc import DataFile, write_data_disc
from rumbrel.core.disc.fitting import Split, fill_from_pool, offers, split
from rumbrel.core.disc.image import IMAGE_FORMATS
from rumbrel.core.disc.joins import joined
from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.media import MEDIA, Medium, medium_for, speed_advice
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND, format_msf, parse_msf, sectors_for_samples
from rumbrel.core.disc.text import DiscText, read_text, text_of
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import inspect_file
from rumbrel.core.playlists import LIST_SUFFIXES, read_list
from rumbrel.core.targets.model import LevelRule
from rumbrel.web.discs.gathering import gathered, level_programmes, programme_of
from rumbrel.web.ui.commands import ReportingCommand

DOES_NOT_FIT = 2
_LONGEST_GAP_SECONDS = 60


class Command(ReportingCommand):
    help = "Lay out lists, cue sheets or files on a disc and write its image."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--out", required=True, type=Path, metavar="DIR")
        parser.add_argument("--name", metavar="NAME")
        parser.add_argument("--gap", type=float, default=2.0, metavar="SECONDS")
        parser.add_argument("--gaps", metavar="LIST", help="a gap for each track, as m:ss:ff or seconds, by commas")
        parser.add_argument("--first-pause", type=float, default=2.0, metavar="SECONDS", help="2 s at least")
        parser.add_argument("--medium", choices=[medium.key for medium in MEDIA], default="80")
        parser.add_argument("--level", choices=("none", "track", "album"), default="none")
        parser.add_argument("--ceiling", type=float, default=-1.0, metavar="DBTP")
        parser.add_argument("--join", choices=("pad", "run-on"), default="pad")
        parser.add_argument("--text", type=Path, metavar="FILE", help="disc text as TOML, over the files' tags")
        parser.add_argument("--before", type=Path, metavar="FILE", help="sound that lies before track 1")
        parser.add_argument(
            "--split", choices=("even", "fill", "free"), help="over several discs where one is too small"
        )
        parser.add_argument("--keep-albums", action="store_true", help="with --split free")
        parser.add_argument("--pool", type=Path, metavar="LIST|FILE", help="where to take tracks from to fill the rest")
        parser.add_argument("--format", choices=(*IMAGE_FORMATS, "iso"), default="bin")
        parser.add_argument("--check", action="store_true", help="measure and check, write nothing")
        parser.add_argument("--speed", type=int, metavar="X", help="of the stand-in recorder")
        parser.add_argument("sources", nargs="+", type=Path, metavar="LIST|FILE")

    def work(self, options: dict[str, Any]) -> bool:
        name = _disc_name(options)
        medium = medium_for(options["medium"])
        if options["format"] == "iso":
            return self._data_disc(options, name, medium)
        job = _Job.of(options, medium)
        layout = job.lay_out(job.programmes)
        if options["split"] and not layout.fits:
            return self._several(job, layout, name, options)
        return self._one(job, layout, name, options)

    def _one(self, job: "_Job", layout: DiscLayout, name: str, options: dict[str, Any]) -> bool:
        text = job.text(layout, name)
        findings = checklist(layout, text)
        failed = next((finding for finding in findings if finding.verdict == "failed"), None)
        record = _record(layout, findings, job.trimmed_sectors(layout)) | _fill(layout, job, options)
        if failed is not None:
            self.report({**record, "written": False, "error": failed.text}, _summary(layout, findings, job), options)
            raise CommandError(f"Nothing written: {failed.text}.", returncode=DOES_NOT_FIT)
        if options["check"]:
            self.report({**record, "written": False}, _summary(layout, findings, job), options)
            return True
        recorder = StandInRecorder(speed=job.speed)
        written = recorder.write(layout, options["out"], name, _progress, text=text, image_format=options["format"])
        if written.image is None:
            raise DiscError("The recorder wrote nothing.")
        record |= {
            "written": True,
            "bin": str(written.image.bin_path),
            "cue": str(written.image.cue_path),
            "digests": list(written.image.track_digests),
            "read_back_equal": written.equal if written.verdicts else None,
            "write_seconds": round(written.simulated_seconds, 1),
            "advice": speed_advice(layout.medium, job.speed),
        }
        self.report(record, _summary(layout, findings, job), options)
        return written.equal

    def _several(self, job: "_Job", layout: DiscLayout, name: str, options: dict[str, Any]) -> bool:
        division = split(layout, layout.medium, how=options["split"], keep_albums=options["keep_albums"])
        layouts = [job.lay_out([job.programmes[place] for place in disc]) for disc in division.discs]
        for number, each in enumerate(layouts, 1):
            text = job.text(each, f"{name} {number}")
            failed = next((finding for finding in checklist(each, text) if finding.verdict == "failed"), None)
            if failed is not None:
                raise CommandError(f"Nothing written: disc {number}: {failed.text}.", returncode=DOES_NOT_FIT)
        self._announce(division, options)
        # Every disc is written, also after one that does not read back.
        written = [self._one(job, each, f"{name} {number}", options) for number, each in enumerate(layouts, 1)]
        return all(written)

    def _announce(self, division: Split, options: dict[str, Any]) -> None:
        record = {
            "discs": [[place + 1 for place in disc] for disc in division.discs],
            "total_sectors": list(division.total_sectors),
            "proved": division.proved,
        }
        self.report(record, division.text, options)

    def _data_disc(self, options: dict[str, Any], name: str, medium: Medium) -> bool:
        files = _data_files(options["sources"])
        if options["check"]:
            total = sum(file.path.stat().st_size for file in files)
            self.report({"files": len(files), "bytes": total, "written": False}, f"{len(files)} files", options)
            return True
        path = write_data_disc(files, options["out"], name, medium=medium, report=lambda s: _progress("writing", s))
        record = {"files": len(files), "iso": str(path), "bytes": path.stat().st_size, "written": True}
        self.report(record, f"{len(files)} files are in {path}", options)
        return True


@dataclass(frozen=True, slots=True, kw_only=True)
class _Job:
    """What one call of the command asks for."""

    programmes: list[Programme]
    medium: Medium
    gap_sectors: int
    first_pause_sectors: int
    hidden: Programme | None
    text_file: Path | None
    speed: int
    trimmed_seconds: Mapping[str, float]

    @classmethod
    def of(cls, options: dict[str, Any], medium: Medium) -> "_Job":
        if not 0 <= options["gap"] <= _LONGEST_GAP_SECONDS:
            raise DiscError(f"A gap of {options['gap']:g} s is none of 0 to {_LONGEST_GAP_SECONDS} s.")
        if not 2 <= options["first_pause"] <= _LONGEST_GAP_SECONDS:
            raise DiscError(f"A first pause lasts 2 to {_LONGEST_GAP_SECONDS} s, not {options['first_pause']:g} s.")
        programmes = gathered(options["sources"])
        if options["gaps"]:
            programmes = _with_gaps(programmes, options["gaps"])
        trimmed: Mapping[str, float] = {}
        if options["level"] != "none" or options["check"]:
            rule = LevelRule(mode=options["level"], ceiling_dbtp=options["ceiling"])
            programmes, trimmed = level_programmes(programmes, rule, jobs=default_jobs())
        if options["join"] == "run-on":
            programmes = joined(programmes)
        before = options["before"]
        return cls(
            programmes=programmes, medium=medium, gap_sectors=round(options["gap"] * SECTORS_PER_SECOND),
            first_pause_sectors=round(options["first_pause"] * SECTORS_PER_SECOND), trimmed_seconds=trimmed,
            hidden=programme_of(inspect_file(before)) if before else None, text_file=options["text"],
            speed=options["speed"] or medium.careful_speed,
        )  # fmt: skip

    def lay_out(self, programmes: Sequence[Programme]) -> DiscLayout:
        return lay_out(
            programmes,
            gap_sectors=self.gap_sectors,
            medium=self.medium,
            first_pause_sectors=self.first_pause_sectors,
            hidden=self.hidden,
        )

    def trimmed_sectors(self, layout: DiscLayout) -> list[int] | None:
        """What each track would take without the silence at its ends; None where it was not measured."""
        if not self.trimmed_seconds:
            return None
        return [
            min(t.sectors, math.ceil(self.trimmed_seconds.get(t.programme.path, t.sectors) * SECTORS_PER_SECOND))
            for t in layout.tracks
        ]

    def text(self, layout: DiscLayout, name: str) -> DiscText:
        text = text_of(layout, title=name)
        return read_text(self.text_file, text) if self.text_file else text


def _disc_name(options: dict[str, Any]) -> str:
    name = options["name"] or options["sources"][0].stem
    if Path(name).name != name or name in (".", "..") or name.startswith(".rumbrel"):
        raise DiscError(f"'{name}' is no file name.")
    return str(name)


def _with_gaps(programmes: list[Programme], text: str) -> list[Programme]:
    """A gap before each track; the first one's is not used. Raises DiscError for a wrong time or count."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) != len(programmes):
        raise DiscError(f"--gaps names {len(parts)} gaps, there are {len(programmes)} tracks.")
    try:
        sectors = [parse_msf(p) if ":" in p else round(float(p) * SECTORS_PER_SECOND) for p in parts]
    except ValueError as error:
        raise DiscError(f"--gaps cannot be read: {error}.") from error
    if not all(0 <= each <= _LONGEST_GAP_SECONDS * SECTORS_PER_SECOND for each in sectors):
        raise DiscError(f"A gap lies between 0 and {_LONGEST_GAP_SECONDS} s.")
    return [replace(p, gap_sectors=gap) for p, gap in zip(programmes, sectors, strict=True)]


def _data_files(sources: Sequence[Path]) -> list[DataFile]:
    """Files of lists and folders, a folder on the disc for each album or list."""
    files: list[DataFile] = []
    for source in sources:
        if source.suffix.lower() in LIST_SUFFIXES:
            files += [DataFile(path=e.path, folder=source.stem, name=e.path.name) for e in read_list(source).entries]
            continue
        for each in gather_sources([source]):
            if each.path.suffix.lower() in SOUND_SUFFIXES:
                album = inspect_file(each.path).tags.first("album") or each.path.parent.name
                files.append(DataFile(path=each.path, folder=album, name=each.path.name))
    if not files:
        raise DiscError("There are no sound files to put on the disc.")
    return files


def _record(layout: DiscLayout, findings: Sequence[Finding], trimmed: list[int] | None) -> dict[str, Any]:
    record = layout.as_record()
    record["checklist"] = [finding.as_record() for finding in findings]
    if not layout.fits:
        record["offers"] = [offer.as_record() for offer in offers(layout, trimmed_sectors=trimmed)]
    return record


def _fill(layout: DiscLayout, job: _Job, options: dict[str, Any]) -> dict[str, Any]:
    """Tracks of the pool that would fill the rest of the disc best."""
    if options["pool"] is None:
        return {}
    pool = gathered([options["pool"]])
    on_disc = {track.programme.path for track in layout.tracks}
    left = [programme for programme in pool if programme.path not in on_disc]
    sectors = [sectors_for_samples(programme.disc_samples) for programme in left]
    chosen, free = fill_from_pool(layout, sectors, gap_sectors=job.gap_sectors)
    return {"fill": [left[place].path for place in chosen], "free_after_fill_sectors": free}


def _summary(layout: DiscLayout, findings: Sequence[Finding], job: _Job) -> list[str]:
    word = "free" if layout.free_sectors >= 0 else "over"
    lines = [
        f"{len(layout.tracks)} tracks, {format_msf(layout.total_sectors)} on the {layout.medium.label}, "
        f"{format_msf(abs(layout.free_sectors))} {word}"
    ]
    lines += [f"  {f.verdict}: {f.text}" for f in findings if f.verdict != "passed"]
    lines += [f"  would fit: {o.text}" for o in offers(layout, trimmed_sectors=job.trimmed_sectors(layout))]
    return lines


def _progress(step: str, share: float) -> None:
    if sys.stderr.isatty():
        sys.stderr.write(f"\r{step} {100 * share:.0f} % ")
        sys.stderr.flush()
