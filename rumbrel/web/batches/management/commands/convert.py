"""./run convert: files and folders for one target or several, without the web."""

import signal
import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cache
from pathlib import Path
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management.base import CommandParser

from rumbrel.core.conversion import Outcome, write_report
from rumbrel.core.crew import default_jobs
from rumbrel.core.delivery import WrittenList, gather_with_lists, in_folders
from rumbrel.core.errors import OutputError, TargetError
from rumbrel.core.forecast import ForecastOptions, ResultLedger, Step, WhenPresent
from rumbrel.core.inspection import Facts, inspect_file, inspect_many
from rumbrel.core.places import FILE_SYSTEMS
from rumbrel.core.progress import Progress
from rumbrel.core.sound.dither import DITHERS
from rumbrel.core.targets import Target, find_target
from rumbrel.core.targets.recipes import check_dither
from rumbrel.core.workflows.convert import (
    ConvertOptions,
    ConvertPlan,
    Gathering,
    LevelWish,
    measure_plan,
    plan_conversion,
    run_plan,
    verify_plan,
)
from rumbrel.core.workflows.cut_tracks import parted
from rumbrel.web.ui.commands import ReportingCommand, printable
from rumbrel.web.ui.progress_line import ProgressLine
from rumbrel.web.ui.words import counted

EACH = "all"
"""Every sound of a film."""
LEVELS = ("none", "track", "album", "tags")


def _interrupt(signum: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


class Command(ReportingCommand):
    help = "Convert files for a target; folders are walked and their tree is mirrored under DIR."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        which = parser.add_mutually_exclusive_group(required=True)
        which.add_argument("--target", metavar="SLUG", help="a target of the catalogue, or a TOML file")
        which.add_argument("--targets", metavar="A,B,C", help="several: decoded once, each under DIR/SLUG")
        where = parser.add_mutually_exclusive_group(required=True)
        where.add_argument("--out", type=Path, metavar="DIR", help="folder for the results")
        where.add_argument("--beside", action="store_true", help="each result in the folder of its source")
        parser.add_argument(
            "--when-present", choices=[str(each) for each in WhenPresent], default="skip",
            help="what to do where a result exists; default: skip",
        )  # fmt: skip
        parser.add_argument("--pattern", default="", help="names, for example '{album}/{track:02} {title}'")
        parser.add_argument("--name-addition", default="", metavar="TEXT", help="goes between name and suffix")
        parser.add_argument(
            "--file-system", default="", choices=["", *(row.key for row in FILE_SYSTEMS)],
            help="whose naming rules apply; default: the target's",
        )  # fmt: skip
        parser.add_argument("--level", choices=LEVELS, help="none, tracks equal, album kept, or gain in tags")
        parser.add_argument("--loudness", type=float, metavar="LUFS", help="with a level: -40 to -5, else the target's")
        parser.add_argument("--ceiling", type=float, metavar="DBTP", help="with a level: what no peak passes, -20 to 0")
        parser.add_argument(
            "--limit", action="store_true", help="come near the loudness by limiting peaks, which changes the sound"
        )
        parser.add_argument(
            "--sound", default="", metavar="N|LANGUAGE", help="which sound of a film that has several, or all"
        )
        parser.add_argument(
            "--cut", action="store_true", help="each long file as its tracks, by its cue sheet, contents or chapters"
        )  # fmt: skip
        parser.add_argument(
            "--dither", choices=tuple(DITHERS), help="where bits are lost: flat, shaped or none, else the target's"
        )  # fmt: skip
        parser.add_argument("--no-rewrap", action="store_true", help="convert what could be re-wrapped")
        parser.add_argument("--trim", action="store_true", help="trim silence at both ends")
        parser.add_argument("--dry-run", action="store_true", help="forecast only, write nothing")
        parser.add_argument("--verify-only", action="store_true", help="check what is there against its sources")
        parser.add_argument(
            "--report", type=Path, metavar="FILE.csv|json", help="also write the result of each file here"
        )
        parser.add_argument(
            "--jobs", type=int, default=default_jobs(), metavar="N", help="at once; default: one per core"
        )
        parser.add_argument("sources", nargs="+", type=Path, metavar="SRC", help="files, folders and lists")

    def work(self, options: dict[str, Any]) -> bool:
        signal.signal(signal.SIGTERM, _interrupt)
        targets = _targets(options)
        _see_that_all_counts(options, targets)
        if options["report"] and options["report"].suffix.lower() not in (".csv", ".json"):
            raise OutputError(f"A report is written as .csv or .json, not as '{options['report'].suffix}'.")
        line, ledgers = ProgressLine(), cache(_ledger)
        inspect = _Inspection(options, line)
        plan = plan_conversion(
            inspect.gathering(any_known=lambda: any(ledgers(_folder(options, t)).has_entries for t in targets)),
            targets,
            lambda target: _folder(options, target),
            options=_convert_options(options),
            inspect=inspect,
            ledger=ledgers,
            writes_lists=not options["beside"],
        )
        if not plan.steps:
            names = ", ".join(str(source) for source in options["sources"][:3])
            raise OutputError(f"Nothing to convert: there are no sound files in {names}.")
        plan = measure_plan(plan, jobs=options["jobs"], inspect=inspect, report=line)
        line.clear()
        if options["dry_run"]:
            return self._show_forecast(plan, options)
        if options["verify_only"]:
            return self._verify(plan, options)
        return self._run(plan, ledgers, line, options)

    def _show_forecast(self, plan: ConvertPlan, options: dict[str, Any]) -> bool:
        for step in plan.steps:
            self.report(step.as_record(), _forecast_sentence(step), options)
        for written in plan.promised_lists():
            self.report(written.as_record(), written.sentence, options)
        return all(step.action != "refuse" for step in plan.steps)

    def _verify(self, plan: ConvertPlan, options: dict[str, Any]) -> bool:
        outcomes = []
        for outcome in verify_plan(plan):
            outcomes.append(outcome)
            text = _sentence(outcome).replace(f"{outcome.step.action}:", "verify:", 1)
            self.report(outcome.as_record(), text, options)
        return self._settle(outcomes, options)

    def _run(
        self,
        plan: ConvertPlan,
        ledger: Callable[[Path], ResultLedger],
        line: ProgressLine,
        options: dict[str, Any],
    ) -> bool:
        outcomes: list[Outcome] = []
        all_ok = True
        events = run_plan(plan, jobs=options["jobs"], ledger=ledger)
        try:
            for event in events:
                if isinstance(event, Progress):
                    line(event)
                    continue
                line.clear()
                if isinstance(event, Outcome):
                    outcomes.append(event)
                    self.report(event.as_record(), _sentence(event), options)
                else:
                    self._show_list(event, options)
                    all_ok &= event.ok
        finally:
            # Stopped or not, what is finished stays and its lists are written.
            events.close()
            line.clear()
            all_ok &= self._settle(outcomes, options)
        return all_ok

    def _show_list(self, written: WrittenList, options: dict[str, Any]) -> None:
        self.report(written.as_record(), written.sentence, options)

    def _settle(self, outcomes: list[Outcome], options: dict[str, Any]) -> bool:
        if options["report"]:
            write_report(outcomes, options["report"])
        if len(outcomes) > 1 and not options["json"]:
            for text in _closing(outcomes):
                self.stdout.write(text)
        return all(outcome.ok for outcome in outcomes)


def _closing(outcomes: Sequence[Outcome]) -> Iterator[str]:
    """What became of all, and once more what did not go well, with what to do."""
    partial = [outcome for outcome in outcomes if outcome.partial]
    failed = [outcome for outcome in outcomes if not outcome.ok and not outcome.partial]
    counts = [
        f"{count:,} {word}"
        for word, count in (
            ("done", len(outcomes) - len(partial) - len(failed)), ("in part", len(partial)), ("failed", len(failed))
        ) if count
    ]  # fmt: skip
    yield f"{', '.join(counts)}."
    for outcome in (*partial, *failed):
        yield printable(f"  {outcome.step.source.path}: {outcome.error}")


def _targets(options: dict[str, Any]) -> list[Target]:
    names = [options["target"]] if options["target"] else [n for n in options["targets"].split(",") if n.strip()]
    targets = [find_target(name.strip()) for name in names]
    if len({target.slug for target in targets}) < len(targets) or not targets:
        raise TargetError("Name each target once, as in --targets car-mp3,archive-flac.")
    if options["dither"]:
        targets = [replace(target, make=replace(target.make, dither=options["dither"])) for target in targets]
        for target in targets:
            check_dither(target.make, f"--dither {options['dither']}, {target.name}")
    return targets


def _see_that_all_counts(options: dict[str, Any], targets: Sequence[Target]) -> None:
    """An option that would do nothing is said before anything runs. Raises TargetError."""
    modes = {options["level"] or target.level.mode for target in targets}
    for name, value, unit, counts in (
        ("--loudness", options["loudness"], " LUFS", modes - {"none"}),
        ("--ceiling", options["ceiling"], " dBTP", modes & {"track", "album"}),
        ("--limit", options["limit"] or None, "", modes & {"track", "album"}),
    ):
        if value is not None and not counts:
            said = f" {value:g}{unit}" if unit else ""
            text = f"{name}{said} has no effect: no level is set. Add --level track or --level album, or leave it out."
            raise TargetError(text)


def _folder(options: dict[str, Any], target: Target) -> Path:
    folder: Path = Path("/") if options["beside"] else options["out"]
    return folder if options["beside"] or options["target"] else folder / target.slug


def _ledger(folder: Path) -> ResultLedger:
    return ResultLedger.for_destination(settings.RUMBREL.ledger, folder)


def _convert_options(options: dict[str, Any]) -> ConvertOptions:
    # Results there are to be compared or made anew: their names must come out as they did.
    when = WhenPresent.REPLACE if options["verify_only"] else WhenPresent(options["when_present"])
    return ConvertOptions(
        forecast=ForecastOptions(
            when_present=when,
            pattern=options["pattern"],
            name_addition=options["name_addition"],
            file_system=options["file_system"],
            trims=options["trim"],
            sound="" if options["sound"] == EACH else options["sound"],
            beside=options["beside"],
            rewraps=not options["no_rewrap"],
        ),
        level=LevelWish(
            mode=options["level"],
            loudness_lufs=options["loudness"],
            ceiling_dbtp=options["ceiling"],
            limits=options["limit"],
        ),
    )


class _Inspection:
    """Each source is looked at once for all targets, many at a time where nothing is known of them."""

    def __init__(self, options: dict[str, Any], line: ProgressLine) -> None:
        self._options = options
        self._line = line
        self._facts: dict[Path, Facts] = {}
        self._gathered: dict[bool, Gathering] = {}
        self._sound = "" if options["sound"] == EACH else options["sound"]

    def __call__(self, path: Path) -> Facts:
        if path not in self._facts:
            self._facts[path] = inspect_file(path, sound=self._sound)
        return self._facts[path]

    def gathering(self, *, any_known: Callable[[], bool]) -> Callable[[Target], Gathering]:
        """What is to be converted for a target. A track that stands in two lists is made once, or once a
        folder where each list gets its own."""

        def gathered(target: Target) -> Gathering:
            folders = target.playlists.folder_each
            if folders not in self._gathered:
                sources, lists = gather_with_lists(
                    self._options["sources"],
                    once=not folders,
                    leave_out=[self._options["out"]] if self._options["out"] else [],
                )
                placed = in_folders(sources, lists) if folders else sources
                parts = self._options["cut"] or self._options["sound"] == EACH
                if parts or not any_known():
                    self._look_at([source.path for source in sources])
                gathering = Gathering(sources=tuple(placed), lists=tuple(lists))
                self._gathered[folders] = self._parted(gathering) if parts else gathering
            return self._gathered[folders]

        return gathered

    def _parted(self, whole: Gathering) -> Gathering:
        """With the parts of files in their place, also in the lists. Raises OutputError where nothing falls into parts."""
        options = self._options
        found = parted(whole.sources, self, cuts=options["cut"], sounds=options["sound"] == EACH)
        if not found.facts and not found.troubles:
            asked = "--cut" if options["cut"] else "--sound all"
            raise OutputError(f"{asked} has no effect: none of the files falls into several. Leave it out.")
        self._line.clear()
        for text in found.troubles:
            print(printable(text), file=sys.stderr)
        self._facts |= found.facts
        lists = (
            replace(each, source_ids=tuple(new for old in each.source_ids for new in found.ids[old]))
            for each in whole.lists
        )
        return Gathering(sources=found.sources, lists=tuple(lists))

    def _look_at(self, paths: list[Path]) -> None:
        fresh = [path for path in dict.fromkeys(paths) if path not in self._facts]
        found = inspect_many(fresh, deep=False, jobs=self._options["jobs"], sound=self._sound, report=self._line)
        self._facts |= {path: deep.facts for path, deep in zip(fresh, found, strict=True)}


def _forecast_sentence(step: Step) -> str:
    text = f"{step.action}: {step.source.path}"
    if step.output:
        text += f" -> {step.output}"
    if step.after:
        about = "" if step.after.size_exact else "about "
        text += f", {counted(step.source.size_bytes, 'byte')} become {about}{step.after.size_bytes:,}"
    return f"{text} ({step.reason})" + _warnings(step.warnings)


def _warnings(warnings: tuple[Any, ...]) -> str:
    return "".join(f" [{warning.code}] {warning.text}" for warning in warnings)


def _sentence(outcome: Outcome) -> str:
    step = outcome.step
    text = f"{step.action}: {step.source.path}"
    if step.output:
        text += f" -> {step.output}"
    if outcome.error:
        text += f". {outcome.error}"
    return text + _warnings(outcome.warnings)
