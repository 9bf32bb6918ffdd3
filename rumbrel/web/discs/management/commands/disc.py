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
from rumbrel.core.disc.design import DiscDesign, checked_first_pause, checked_gap, divided
from rumbrel.core.disc.fitting import Split, fill_from_pool, split
from rumbrel.core.disc.image import IMAGE_FORMATS
from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.media import MEDIA, medium_for, speed_advice
from rumbrel.core.disc.red_book import (
    FIRST_PAUSE_SECTORS,
    MAX_TRACKS,
    format_msf,
    nearest_sectors,
    parse_msf,
    sectors_for_samples,
)
from rumbrel.core.disc.text_rules import TEXT_RULES
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import WhenPresent
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.dither import DITHERS, FLAT
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.design_disc import DesignPlan, plan_design
from rumbrel.core.workflows.disc_sounds import Sound, measured_sounds
from rumbrel.core.workflows.find_joins import run_on_where_shown
from rumbrel.core.workflows.gather_disc import gather_disc, with_text_file
from rumbrel.core.workflows.make_disc import data_files, free_name, write_plan
from rumbrel.core.workflows.offer_disc import design_offers
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
        parser.add_argument("--gap", type=float, default=2.0, metavar="SECONDS", help="between tracks; default: 2")
        parser.add_argument("--gaps", metavar="LIST", help="a gap for each track, as m:s:f or seconds, by commas")
        parser.add_argument("--first-pause", type=float, default=2.0, metavar="SECONDS", help="2 s at least")
        parser.add_argument(
            "--medium", choices=[medium.key for medium in MEDIA], default="80", help="the blank; default: 80"
        )
        parser.add_argument(
            "--level", choices=("none", "track", "album"), default="none", help="none, tracks equal, or album kept"
        )
        parser.add_argument("--loudness", type=float, metavar="LUFS", help="with --level: -40 to -5; default: -18")
        parser.add_argument("--ceiling", type=float, metavar="DBTP", help="with --level: -20 to 0; default: -1")
        parser.add_argument(
            "--dither", choices=tuple(DITHERS), default=FLAT, help="for sound of more than 16 bit; default: flat"
        )
        parser.add_argument(
            "--join",
            choices=("pad", "run-on"),
            default="pad",
            help="run-on finds tracks of one recording and cuts none of it",
        )
        parser.add_argument("--trim", action="store_true", help="leave out the silence at the ends of tracks")
        parser.add_argument("--text", type=Path, metavar="FILE", help="CD-Text as TOML, over the files' tags")
        parser.add_argument(
            "--cd-text",
            choices=tuple(TEXT_RULES),
            default="all",
            help="which texts go into it; default: all",
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
        plan = job.plan(job.design)
        line.clear()
        if options["split"] and (not plan.layout.fits or len(plan.layout.tracks) > MAX_TRACKS):
            return self._several(job, plan, name, options)
        return self._one(job, plan, name, options)

    def _one(self, job: "_Job", plan: DesignPlan, name: str, options: dict[str, Any]) -> bool:
        record = _record(plan, job) | _fill(plan, job, options)
        if plan.failed is not None:
            self.report({**record, "written": False, "error": plan.failed.text}, _summary(plan, job), options)
            raise CommandError(f"Nothing written: {plan.failed.text}.", returncode=DOES_NOT_FIT)
        if options["dry_run"]:
            self.report({**record, "written": False}, _summary(plan, job), options)
            return True
        line = ProgressLine()
        kept = [path for path in (*options["sources"], options["before_first"], options["text"]) if path]
        written = write_plan(
            plan, options["out"], name, speed=job.design.speed, image_format=options["format"], report=line,
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
            "advice": speed_advice(plan.layout.medium, job.design.speed),
        }
        where = [f"Written: {image.bin_path}"] if image else []
        limited = image.limited if image else ()
        record["limited"] = [
            {"track": each.track, "values": each.values, "over_db": round(each.over_db, 2)} for each in limited
        ]
        self.report(record, [*_summary(plan, job), *where, written.said, *(each.said for each in limited)], options)
        return written.equal

    def _several(self, job: "_Job", plan: DesignPlan, name: str, options: dict[str, Any]) -> bool:
        division = split(plan.layout, plan.layout.medium, how=options["split"], keep_albums=options["keep_albums"])
        designs = divided(job.design, [[plan.keys[at] for at in disc] for disc in division.discs])
        plans = [job.plan(design) for design in designs]
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

    design: DiscDesign
    sounds: dict[int, Sound]

    @classmethod
    def of(cls, options: dict[str, Any], name: str, line: ProgressLine) -> "_Job":
        found = gather_disc(options["sources"])
        sounds, medium = dict(found.sounds), medium_for(options["medium"])
        more_pause = checked_first_pause(_sectors(options["first_pause"], "--first-pause")) - FIRST_PAUSE_SECTORS
        texts = {"title": name, **found.design.texts}
        design = replace(
            found.design, medium_key=medium.key, gap_sectors=checked_gap(_sectors(options["gap"], "--gap")),
            first_pause_sectors=found.design.first_pause_sectors + more_pause, dither=options["dither"],
            cd_text=options["cd_text"], trims=options["trim"], speed=options["speed"] or medium.careful_speed,
            texts={**texts, "title": name} if options["name"] else texts, **_level(options),
        )  # fmt: skip
        if options["before_first"]:
            facts = inspect_file(options["before_first"])
            hidden_id = max(sounds) + 1
            sounds[hidden_id] = Sound(facts=facts, title=options["before_first"].stem)
            design = replace(design, hidden_id=hidden_id)
        if options["gaps"]:
            design = _with_gaps(design, options["gaps"])
        if options["join"] == "run-on":
            # Before anything is levelled: one recording has one gain.
            design = run_on_where_shown(design, sounds, jobs=default_jobs(), report=line)
        if options["text"]:
            design = with_text_file(design, options["text"], plan_design(design, sounds))
        if design.level != "none" or design.trims or options["dry_run"]:
            sounds |= measured_sounds(design, sounds, jobs=default_jobs(), report=line)
        return cls(design=design, sounds=sounds)

    def plan(self, design: DiscDesign) -> DesignPlan:
        return plan_design(design, self.sounds)


def _level(options: dict[str, Any]) -> dict[str, Any]:
    """Raises DiscError for what no level can be, and for an option that would have no effect."""
    limits = {"loudness": ("loudness_lufs", -40, -5, "LUFS"), "ceiling": ("ceiling_dbtp", -20, 0, "dBTP")}
    values: dict[str, Any] = {"level": options["level"]}
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
    return values


def _sectors(seconds: float, option: str) -> int:
    if not math.isfinite(seconds) or abs(seconds) > 86_400:
        raise DiscError(f"{option} is {seconds:g}. It must be a time in seconds.")
    return nearest_sectors(seconds)


def _disc_name(options: dict[str, Any]) -> str:
    name = options["name"] or options["sources"][0].stem
    if Path(name).name != name or name in (".", "..") or name.startswith(".rumbrel"):
        raise DiscError(f"'{name}' is not a file name.")
    return str(name)


def _with_gaps(design: DiscDesign, text: str) -> DiscDesign:
    """A gap before each track; the first one's is not used. Raises DiscError for a wrong time or count."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) != len(design.tracks):
        raise DiscError(f"--gaps names {len(parts)} gaps, there are {len(design.tracks)} tracks.")
    try:
        sectors = [checked_gap(parse_msf(p) if ":" in p else _sectors(float(p), "--gaps")) for p in parts]
    except ValueError as error:
        raise DiscError(f"--gaps cannot be read: {error}.") from error
    tracks = zip(design.tracks, sectors, strict=True)
    return replace(design, tracks=tuple(replace(track, gap_sectors=gap) for track, gap in tracks))


def _record(plan: DesignPlan, job: _Job) -> dict[str, Any]:
    record = plan.layout.as_record()
    record["checklist"] = [finding.as_record() for finding in plan.findings]
    if not plan.layout.fits:
        record["offers"] = [offer.as_record() for offer in design_offers(plan, job.sounds)]
    return record


def _fill(plan: DesignPlan, job: _Job, options: dict[str, Any]) -> dict[str, Any]:
    """Tracks that would fill the rest of the disc best."""
    if options["fill_from"] is None:
        return {}
    on_disc = {track.programme.path for track in plan.layout.tracks}
    pool = gather_disc([options["fill_from"]])
    usable = [pool.sounds[track.source_id].programme() for track in pool.design.tracks]
    left = [programme for programme in usable if programme.path not in on_disc]
    sectors = [sectors_for_samples(programme.disc_samples) for programme in left]
    best = fill_from_pool(plan.layout, sectors, gap_sectors=job.design.gap_sectors)
    return {"fill": [left[at].path for at in best.positions], "free_after_fill_sectors": best.free_sectors}


def _summary(plan: DesignPlan, job: _Job) -> list[str]:
    offers = [offer for offer in design_offers(plan, job.sounds) if offer.fits]
    return [_time_line(plan.layout), *map(_finding_line, _remarkable(plan.findings))] + [
        f"  would fit: {offer.text}" for offer in offers
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
