"""./run convert: files and folders for one target or several, without the web."""

import signal
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management.base import CommandParser

from rumbrel.core.conversion import (
    Outcome,
    Progress,
    default_jobs,
    levelled,
    measure_all,
    remove_leftovers,
    run_steps,
    verify_step,
    write_report,
)
from rumbrel.core.delivery import (
    FoundList,
    PlannedList,
    WrittenList,
    gather_with_lists,
    in_folders,
    plan_lists,
    write_planned,
)
from rumbrel.core.errors import OutputError, TargetError
from rumbrel.core.forecast import (
    ForecastOptions,
    ResultLedger,
    Source,
    Step,
    WhenPresent,
    forecast_batch,
)
from rumbrel.core.inspection import Facts, inspect_file, inspect_many
from rumbrel.core.places import FILE_SYSTEMS
from rumbrel.core.targets import Target, find_target
from rumbrel.core.targets.model import LevelRule
from rumbrel.web.ui.commands import ReportingCommand

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
        parser.add_argument("--out", required=True, type=Path, metavar="DIR")
        parser.add_argument("--when-present", choices=[str(each) for each in WhenPresent], default="skip")
        parser.add_argument("--pattern", default="", help="names, for example '{album}/{track:02} {title}'")
        parser.add_argument("--name-suffix", default="", metavar="TEXT", help="goes between name and ending")
        parser.add_argument("--file-system", default="", choices=["", *(row.key for row in FILE_SYSTEMS)])
        parser.add_argument("--level", choices=LEVELS, help="none, tracks equal, album kept, or gain in tags")
        parser.add_argument("--loudness", type=float, metavar="LUFS")
        parser.add_argument("--ceiling", type=float, metavar="DBTP")
        parser.add_argument("--sound", default="", metavar="N|LANGUAGE", help="which sound of a film that has several")
        parser.add_argument("--no-rewrap", action="store_true", help="convert what could be packed anew as it is")
        parser.add_argument("--trim", action="store_true", help="leave out silence at both ends")
        parser.add_argument("--dry-run", action="store_true", help="forecast only, write nothing")
        parser.add_argument("--verify-only", action="store_true", help="check what is there against its sources")
        parser.add_argument("--report", type=Path, metavar="FILE.csv|json")
        parser.add_argument("--jobs", type=int, default=default_jobs(), metavar="N")
        parser.add_argument("sources", nargs="+", type=Path, metavar="SRC")

    def work(self, options: dict[str, Any]) -> bool:
        signal.signal(signal.SIGTERM, _interrupt)
        targets = _targets(options)
        if options["report"] and options["report"].suffix.lower() not in (".csv", ".json"):
            raise OutputError(f"A report is written as .csv or .json, not as '{options['report'].suffix}'.")
        desk = _Desk(options)
        plans = [desk.plan(target) for target in targets]
        steps = [step for plan in plans for step in plan]
        if options["dry_run"]:
            return self._show_forecast(steps, desk, options)
        if options["verify_only"]:
            return self._verify(steps, options)
        return self._run(steps, desk, options)

    def _show_forecast(self, steps: list[Step], desk: "_Desk", options: dict[str, Any]) -> bool:
        for step in steps:
            self.report(step.as_record(), _forecast_sentence(step), options)
        for written in desk.promised_lists():
            self.report(written.as_record(), written.sentence, options)
        return all(step.action != "refuse" for step in steps)

    def _verify(self, steps: list[Step], options: dict[str, Any]) -> bool:
        outcomes = []
        for step in steps:
            outcome = verify_step(step)
            outcomes.append(outcome)
            self.report(outcome.as_record(), _sentence(outcome).replace(f"{step.action}:", "verify:", 1), options)
        return self._settle(outcomes, options)

    def _run(self, steps: list[Step], desk: "_Desk", options: dict[str, Any]) -> bool:
        outcomes: list[Outcome] = []
        begun, shows = time.monotonic(), sys.stderr.isatty()
        remove_leftovers(options["out"])
        try:
            for event in run_steps(steps, jobs=options["jobs"]):
                if isinstance(event, Progress):
                    if shows:
                        self._show(event, time.monotonic() - begun)
                    continue
                desk.remember(event)
                outcomes.append(event)
                self.report(event.as_record(), _sentence(event), options)
        finally:
            if shows:
                self.stderr.write("")
            lists_ok = self._write_lists(desk, outcomes, options)
            all_ok = self._settle(outcomes, options)
        return all_ok and lists_ok

    def _write_lists(self, desk: "_Desk", outcomes: list[Outcome], options: dict[str, Any]) -> bool:
        """The lists of the results, also after a stop: then they hold what is there."""
        all_ok = True
        for written in desk.written_lists(outcomes):
            self.report(written.as_record(), written.sentence, options)
            all_ok &= written.ok
        return all_ok

    def _settle(self, outcomes: list[Outcome], options: dict[str, Any]) -> bool:
        if options["report"]:
            write_report(outcomes, options["report"])
        return all(outcome.ok for outcome in outcomes)

    def _show(self, progress: Progress, elapsed: float) -> None:
        speed = progress.done_seconds / elapsed if elapsed else 0.0
        left = (progress.total_seconds - progress.done_seconds) / speed if speed else 0.0
        line = f"\r{progress.finished} of {progress.total}, {speed:.0f} times real time, {left:.0f} s left "
        self.stderr.write(line, ending="")
        self.stderr.flush()


def _targets(options: dict[str, Any]) -> list[Target]:
    names = [options["target"]] if options["target"] else [n for n in options["targets"].split(",") if n.strip()]
    targets = [find_target(name.strip()) for name in names]
    if len({target.slug for target in targets}) < len(targets) or not targets:
        raise TargetError("Name each target once, as in --targets car-mp3,archive-flac.")
    return targets


class _Desk:
    """Plans for the targets of one call, which share one inspection of each source."""

    def __init__(self, options: dict[str, Any]) -> None:
        self._options = options
        self._gathered: dict[bool, tuple[list[Source], list[FoundList]]] = {}
        self._lists: list[tuple[Target, PlannedList]] = []
        self._facts: dict[Path, Facts] = {}
        self._ledgers: dict[str, ResultLedger] = {}
        # Results there are to be compared or made anew: their names must come out as they did.
        when = WhenPresent.REPLACE if options["verify_only"] else WhenPresent(options["when_present"])
        self._forecast_options = ForecastOptions(
            when_present=when,
            pattern=options["pattern"],
            suffix_text=options["name_suffix"],
            file_system=options["file_system"],
            trims=options["trim"],
            sound=options["sound"],
            rewraps=not options["no_rewrap"],
        )

    def plan(self, target: Target) -> tuple[Step, ...]:
        place = self._options["out"] if self._options["target"] else self._options["out"] / target.slug
        ledger = ResultLedger.for_place(settings.DATA / "ledger", place)
        self._ledgers[target.slug] = ledger
        sources, lists = self._sources_for(target)
        if not self._facts and len(sources) > 1 and not ledger.has_entries:
            paths = list(dict.fromkeys(source.path for source in sources))
            found = inspect_many(paths, deep=False, jobs=self._options["jobs"], sound=self._options["sound"])
            self._facts = {path: deep.facts for path, deep in zip(paths, found, strict=True)}
        rule = self._level_rule(target)
        settings_for_target = replace(self._forecast_options, level=rule)
        steps = forecast_batch(
            sources, target, place, options=settings_for_target, inspect=self._inspect, ledger=ledger
        ).steps
        self._lists += [
            (target, planned)
            for planned in plan_lists(
                lists,
                target,
                place,
                settings_for_target.naming_for(target).system,
                [step.output for step in steps],
                when_present=settings_for_target.when_present,
                ours=lambda path: ledger.made(str(path)) is not None,
            )
        ]
        return self._levelled(steps, rule, sources)

    def _sources_for(self, target: Target) -> tuple[list[Source], list[FoundList]]:
        """A track that stands in two lists is made once, or once a folder where each list gets its own."""
        folders = target.playlists.folder_each
        if folders not in self._gathered:
            sources, lists = gather_with_lists(self._options["sources"], once=not folders)
            self._gathered[folders] = (in_folders(sources, lists) if folders else sources, lists)
        return self._gathered[folders]

    def promised_lists(self) -> Iterator[WrittenList]:
        """What becomes of the lists when all goes well."""
        for _, planned in self._lists:
            yield WrittenList(planned=planned, tracks=len(planned.tracks), error=planned.found.problem)

    def written_lists(self, outcomes: list[Outcome]) -> Iterator[WrittenList]:
        """Write the lists of every target, of the results that are there."""
        there = {Path(outcome.step.output): outcome.step.source for outcome in outcomes if outcome.ok}
        for target, planned in self._lists:
            # What an earlier run made was passed over unopened, so the result itself has to say what it is.
            known = {
                place: there[place] if there[place].sample_rate else inspect_file(place)
                for place in planned.tracks
                if place in there
            }
            written = write_planned(planned, known)
            if written.tracks:
                status = planned.found.path.stat()
                with self._ledgers[target.slug].writing() as ledger:
                    source = str(planned.found.path.absolute())
                    ledger.add(source, status.st_size, status.st_mtime_ns, "list", planned.path)
            yield written

    def _inspect(self, path: Path) -> Facts:
        if path not in self._facts:
            self._facts[path] = inspect_file(path, sound=self._options["sound"])
        return self._facts[path]

    def _levelled(self, steps: tuple[Step, ...], rule: LevelRule, sources: list[Source]) -> tuple[Step, ...]:
        if rule.mode == "none" and not self._options["trim"]:
            return steps
        # An album is measured whole, even if only some of its tracks are still to be made.
        facts = [self._inspect(source.path) for source in sources] if any(s.writes for s in steps) else []
        channels = {step.source.path: step.shape.channels for step in steps if step.shape}
        requests = [(each, channels.get(each.path, each.channels)) for each in facts if each.usable]
        measured = measure_all(requests, jobs=self._options["jobs"]) if requests else {}
        return levelled(steps, measured, rule=rule, members=facts, trim=self._options["trim"])

    def _level_rule(self, target: Target) -> LevelRule:
        options, rule = self._options, target.level
        if options["level"]:
            rule = replace(rule, mode=options["level"])
        if options["loudness"] is not None:
            if not -40 <= options["loudness"] <= -5:
                raise TargetError("A loudness lies between -40 and -5 LUFS.")
            rule = replace(rule, loudness_lufs=options["loudness"])
        if options["ceiling"] is not None:
            if not -20 <= options["ceiling"] <= 0:
                raise TargetError("A ceiling lies between -20 and 0 dBTP.")
            rule = replace(rule, ceiling_dbtp=options["ceiling"])
        return rule

    def remember(self, outcome: Outcome) -> None:
        """Note a finished result, so that the next call passes it over."""
        step = outcome.step
        if outcome.ok and step.writes and step.work:
            with self._ledgers[step.target.slug].writing() as ledger:
                source = str(Path(step.source.path).absolute())
                ledger.add(source, step.source.size_bytes, step.source.modified_ns, step.work, Path(step.output))


def _forecast_sentence(step: Step) -> str:
    text = f"{step.action}: {step.source.path}"
    if step.output:
        text += f" -> {step.output}"
    if step.after:
        about = "" if step.after.size_exact else "about "
        text += f", {step.source.size_bytes:,} bytes become {about}{step.after.size_bytes:,}"
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
