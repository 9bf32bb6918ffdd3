"""./run disc: lists, cue sheets or files as a disc."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from django.core.management.base import CommandError, CommandParser

from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.checklist import Finding
from rumbrel.core.disc.data_disc import read_back_data, write_data_disc
from rumbrel.core.disc.fitting import Split, split
from rumbrel.core.disc.image import IMAGE_FORMATS
from rumbrel.core.disc.joins import joined
from rumbrel.core.disc.layout import DiscLayout, Programme, taken
from rumbrel.core.disc.media import MEDIA, medium_for, speed_advice
from rumbrel.core.disc.red_book import FIRST_PAUSE_SECTORS, MAX_TRACKS, SECTORS_PER_SECOND, format_msf, parse_msf
from rumbrel.core.disc.text import TEXT_RULES, DiscText
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import WhenPresent
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.dither import DITHERS, FLAT
from rumbrel.core.targets import LevelRule
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.make_disc import (
    LONGEST_GAP_SECONDS,
    DiscPlan,
    DiscWish,
    SheetSays,
    Stretched,
    data_files,
    fill,
    free_name,
    gather_programmes,
    measure_programmes,
    plan_disc,
    programme_of,
    sheet_says,
    write_plan,
)
from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.progress_line import ProgressLine
from rumbrel.web.ui.words import counted

DOES_NOT_FIT = 2


class Command(ReportingCommand):
    help = "Lay out lists, cue sheets or files on a disc and write its image."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--out", required=True, type=Path, metavar="DIR", help="folder for the image")
        parser.add_argument("--name", metavar="NAME", help="of the disc and its files; else that of the first source")
        parser.add_argument("--gap", type=float, default=2.0, metavar="SECONDS", help="between tracks, 2 unless said")
        parser.add_argument("--gaps", metavar="LIST", help="a gap for each track, as m:s:f or seconds, by commas")
        parser.add_argument("--first-pause", type=float, default=2.0, metavar="SECONDS", help="2 s at least")
        parser.add_argument(
            "--medium", choices=[medium.key for medium in MEDIA], default="80", help="the blank, 80 unless said"
        )
        parser.add_argument(
            "--level", choices=("none", "track", "album"), default="none", help="none, tracks equal, or album kept"
        )
        parser.add_argument("--loudness", type=float, metavar="LUFS", help="with --level: -40 to -5, -18 unless said")
        parser.add_argument("--ceiling", type=float, metavar="DBTP", help="with --level: -20 to 0, -1 unless said")
        parser.add_argument(
            "--dither", choices=tuple(DITHERS), default=FLAT, help="for sound of more than 16 bit, flat unless said"
        )
        parser.add_argument(
            "--join",
            choices=("pad", "run-on"),
            default="pad",
            help="run-on finds tracks of one recording and cuts none of it",
        )
        parser.add_argument("--text", type=Path, metavar="FILE", help="CD-Text as TOML, over the files' tags")
        parser.add_argument(
            "--cd-text",
            choices=tuple(TEXT_RULES),
            default="all",
            help="what of the texts goes into it, all unless said",
        )
        parser.add_argument("--before-first", type=Path, metavar="FILE", help="sound that lies before track 1")
        parser.add_argument(
            "--split", choices=("even", "fill", "free"), help="over several discs where one is too small"
        )
        parser.add_argument("--keep-albums", action="store_true", help="with --split free")
        parser.add_argument("--fill-from", type=Path, metavar="LIST|FILE", help="take tracks from here for the rest")
        parser.add_argument(
            "--format",
            choices=(*IMAGE_FORMATS, "iso"),
            default="bin",
            help="of the image; iso makes a data disc of files",
        )
        parser.add_argument(
            "--when-present", choices=[str(each) for each in WhenPresent], default="skip",
            help="what to do where an image of that name is: keep it and end, replace it, or take a number",
        )  # fmt: skip
        parser.add_argument("--numbered", action="store_true", help="with --format iso: names begin with their numbers")
        parser.add_argument("--dry-run", action="store_true", help="measure and check, write nothing")
        parser.add_argument("--speed", type=int, metavar="X", help="of the stand-in recorder")
        parser.add_argument(
            "sources", nargs="+", type=Path, metavar="LIST|FILE", help="lists, cue sheets and files, in order"
        )

    def work(self, options: dict[str, Any]) -> bool:
        name = _disc_name(options)
        if options["when_present"] == WhenPresent.NUMBER:
            name = free_name(options["out"], name, options["format"])
        if options["format"] == "iso":
            return self._data_disc(options, name)
        line = ProgressLine()
        job = _Job.of(options, name, line)
        plan = job.plan(job.programmes)
        line.clear()
        if options["split"] and (not plan.layout.fits or len(plan.layout.tracks) > MAX_TRACKS):
            return self._several(job, plan, name, options)
        return self._one(job, plan, name, options)

    def _one(self, job: "_Job", plan: DiscPlan, name: str, options: dict[str, Any]) -> bool:
        record = _record(plan) | _fill(plan, job, options)
        if plan.failed is not None:
            self.report({**record, "written": False, "error": plan.failed.text}, _summary(plan), options)
            raise CommandError(f"Nothing written: {plan.failed.text}.", returncode=DOES_NOT_FIT)
        if options["dry_run"]:
            self.report({**record, "written": False}, _summary(plan), options)
            return True
        line = ProgressLine()
        kept = [path for path in (*options["sources"], options["before_first"], options["text"]) if path]
        written = write_plan(
            plan, options["out"], name, speed=job.speed, image_format=options["format"], report=line,
            replaces=options["when_present"] == WhenPresent.REPLACE, untouched=kept, packs=plan.packs,
        )  # fmt: skip
        line.clear()
        image = written.image
        record |= {
            "written": image is not None,
            "bin": str(image.bin_path) if image else None,
            "cue": str(image.cue_path) if image else None,
            "digests": list(image.track_digests) if image else [],
            "read_back_equal": written.equal if written.verdicts else None,
            "write_seconds": round(written.simulated_seconds, 1),
            "advice": speed_advice(plan.layout.medium, job.speed),
        }
        where = [f"Written: {image.bin_path}"] if image else []
        limited = image.limited if image else ()
        record["limited"] = [
            {"track": each.track, "values": each.values, "over_db": round(each.over_db, 2)} for each in limited
        ]
        self.report(record, [*_summary(plan), *where, written.said, *(each.said for each in limited)], options)
        return written.equal

    def _several(self, job: "_Job", plan: DiscPlan, name: str, options: dict[str, Any]) -> bool:
        division = split(plan.layout, plan.layout.medium, how=options["split"], keep_albums=options["keep_albums"])
        plans = [job.plan_part(plan, disc, number) for number, disc in enumerate(division.discs, 1)]
        for number, each in enumerate(plans, 1):
            if each.failed is not None:
                text = f"Nothing written: disc {number}: {each.failed.text}."
                raise CommandError(text, returncode=DOES_NOT_FIT)
        self._announce(division, options)
        # Every disc is written, also after one that does not read back.
        written = [self._one(job, each, f"{name} {number}", options) for number, each in enumerate(plans, 1)]
        return all(written)

    def _announce(self, division: Split, options: dict[str, Any]) -> None:
        record = {
            "discs": [[at + 1 for at in disc] for disc in division.discs],
            "total_sectors": list(division.total_sectors),
            "proved": division.proved,
        }
        self.report(record, division.text, options)

    def _data_disc(self, options: dict[str, Any], name: str) -> bool:
        files = data_files(options["sources"], numbered=options["numbered"])
        text = counted(len(files), "file")
        if options["dry_run"]:
            total = sum(file.path.stat().st_size for file in files)
            self.report({"files": len(files), "bytes": total, "written": False}, text, options)
            return True
        line = ProgressLine()
        path = write_data_disc(
            files, options["out"], name, medium=medium_for(options["medium"]), report=line,
            replaces=options["when_present"] == WhenPresent.REPLACE,
            prove=lambda image, names: all(verdict.equal for verdict in read_back_data(image, names, report=line)),
        )  # fmt: skip
        line.clear()
        if path is None:
            raise DiscError("The data disc did not read back as it was written, so it was not kept.")
        record = {"files": len(files), "iso": str(path), "bytes": path.stat().st_size, "written": True}
        self.report(record, f"{text} on {path}", options)
        return True


@dataclass(frozen=True, slots=True, kw_only=True)
class _Job:
    """What one call of the command asks for."""

    programmes: list[Programme]
    wish: DiscWish
    speed: int
    trimmed_seconds: dict[Stretched, float]

    @classmethod
    def of(cls, options: dict[str, Any], name: str, line: ProgressLine) -> "_Job":
        medium, before = medium_for(options["medium"]), options["before_first"]
        says = _sheet_says(options["sources"])
        wish = DiscWish(
            medium=medium,
            gap_sectors=_sectors(options["gap"], "--gap"),
            first_pause_sectors=_sectors(options["first_pause"], "--first-pause") + says.first_silence_sectors,
            hidden=programme_of(inspect_file(before)) if before else None,
            text_file=options["text"],
            packs=says.packs,
            texts=says.texts if not options["name"] else {**says.texts, "title": name},
            title=name,
            dither=options["dither"],
            cd_text=options["cd_text"],
        ).check()
        programmes = gather_programmes(options["sources"])
        if options["gaps"]:
            programmes = _with_gaps(programmes, options["gaps"])
        if options["join"] == "run-on":
            # Before anything is levelled: one recording has one gain.
            programmes = joined(programmes)
        trimmed: dict[Stretched, float] = {}
        rule = _level_rule(options)
        if options["level"] != "none" or options["dry_run"]:
            programmes, trimmed = measure_programmes(programmes, rule, jobs=default_jobs(), report=line)
        return cls(
            programmes=programmes, wish=wish,
            speed=options["speed"] or medium.careful_speed, trimmed_seconds=trimmed,
        )  # fmt: skip

    def plan(self, programmes: Sequence[Programme]) -> DiscPlan:
        return plan_disc(programmes, self.wish, trimmed_seconds=self.trimmed_seconds)

    def plan_part(self, whole: DiscPlan, positions: Sequence[int], number: int) -> DiscPlan:
        """One of several discs: hidden sound and a longer first pause go with the first, its part of the text with each."""
        wish = self.wish if number == 1 else replace(self.wish, hidden=None, first_pause_sectors=FIRST_PAUSE_SECTORS)
        joined = [replace(track.programme, runs_on=track.runs_on) for track in whole.layout.tracks]
        return plan_disc(taken(joined, positions), wish, text=_part_of(whole.text, positions, number))


def _level_rule(options: dict[str, Any]) -> LevelRule:
    """Raises DiscError for what no level can be, and for an option that would have no effect."""
    limits = {"loudness": ("loudness_lufs", -40, -5, "LUFS"), "ceiling": ("ceiling_dbtp", -20, 0, "dBTP")}
    values: dict[str, Any] = {}
    for name, (field, low, high, unit) in limits.items():
        value = options[name]
        if value is None:
            continue
        if options["level"] == "none":
            raise DiscError(
                f"--{name} has no effect without --level track or --level album. Add that, or leave it out."
            )
        if not low <= value <= high:
            raise DiscError(f"--{name} is {value:g}. It must be {low} to {high} {unit}.")
        values[field] = value
    return replace(LevelRule(mode=options["level"]), **values)


def _sheet_says(sources: Sequence[Path]) -> SheetSays:
    """What the cue sheet says of the whole disc, where that is all that was named."""
    if len(sources) == 1 and sources[0].suffix.lower() == ".cue":
        return sheet_says(sources[0])
    return SheetSays(texts={}, packs=None, first_silence_sectors=0)


def _sectors(seconds: float, option: str) -> int:
    if not math.isfinite(seconds) or abs(seconds) > 86_400:
        raise DiscError(f"{option} is {seconds:g}. It must be a time in seconds.")
    return round(seconds * SECTORS_PER_SECOND)


def _part_of(text: DiscText, positions: Sequence[int], number: int) -> DiscText:
    """What one of several discs says: its own tracks, and its number behind the name."""
    disc = replace(text.disc, title=f"{text.disc.title} {number}")
    return replace(text, disc=disc, tracks=tuple(text.tracks[at] for at in positions))


def _disc_name(options: dict[str, Any]) -> str:
    name = options["name"] or options["sources"][0].stem
    if Path(name).name != name or name in (".", "..") or name.startswith(".rumbrel"):
        raise DiscError(f"'{name}' is not a file name.")
    return str(name)


def _with_gaps(programmes: list[Programme], text: str) -> list[Programme]:
    """A gap before each track; the first one's is not used. Raises DiscError for a wrong time or count."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) != len(programmes):
        raise DiscError(f"--gaps names {len(parts)} gaps, there are {len(programmes)} tracks.")
    try:
        sectors = [parse_msf(p) if ":" in p else _sectors(float(p), "--gaps") for p in parts]
    except ValueError as error:
        raise DiscError(f"--gaps cannot be read: {error}.") from error
    if not all(0 <= each <= LONGEST_GAP_SECONDS * SECTORS_PER_SECOND for each in sectors):
        raise DiscError(f"A gap lies between 0 and {LONGEST_GAP_SECONDS} s.")
    return [replace(p, gap_sectors=gap) for p, gap in zip(programmes, sectors, strict=True)]


def _record(plan: DiscPlan) -> dict[str, Any]:
    record = plan.layout.as_record()
    record["checklist"] = [finding.as_record() for finding in plan.findings]
    if not plan.layout.fits:
        record["offers"] = [offer.as_record() for offer in plan.offers]
    return record


def _fill(plan: DiscPlan, job: _Job, options: dict[str, Any]) -> dict[str, Any]:
    """Tracks that would fill the rest of the disc best."""
    if options["fill_from"] is None:
        return {}
    chosen, free = fill(plan, gather_programmes([options["fill_from"]]), job.wish)
    return {"fill": [programme.path for programme in chosen], "free_after_fill_sectors": free}


def _summary(plan: DiscPlan) -> list[str]:
    layout = plan.layout
    return [_time_line(layout), *map(_finding_line, _remarkable(plan.findings))] + [
        f"  would fit: {offer.text}" for offer in plan.offers
    ]


def _time_line(layout: DiscLayout) -> str:
    word = "free" if layout.free_sectors >= 0 else "over"
    return (
        f"{counted(len(layout.tracks), 'track')}, {format_msf(layout.total_sectors)} on the {layout.medium.label}, "
        f"{format_msf(abs(layout.free_sectors))} {word} (m:s:f)"
    )


def _remarkable(findings: Sequence[Finding]) -> list[Finding]:
    return [finding for finding in findings if finding.verdict is not Verdict.PASSED]


def _finding_line(finding: Finding) -> str:
    return f"  {finding.verdict}: {finding.text}"
