"""./run deliver: finished files onto a volume, in playing order, compared there."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import CommandParser

from rumbrel.core.crew import default_jobs
from rumbrel.core.delivery import Delivered, WrittenList, gather_with_lists
from rumbrel.core.delivery.order import Ordered, bring_back
from rumbrel.core.errors import OutputError, PlaylistError
from rumbrel.core.files import working_file, working_folder
from rumbrel.core.forecast import ResultLedger
from rumbrel.core.places import VOLUME_KINDS, volume_at, volume_kind_for
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.deliver import DeliveryPlan, deliver, plan_delivery
from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.progress_line import ProgressLine
from rumbrel.web.ui.words import counted


class Command(ReportingCommand):
    help = "Put files and playlists on a volume for a target."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument(
            "--volume", required=True, type=Path, metavar="DIR", help="where the stick or card is mounted"
        )
        parser.add_argument(
            "--volume-kind",
            choices=[kind.key for kind in VOLUME_KINDS],
            default="folder",
            help="its file system and size, where the folder does not say them",
        )
        parser.add_argument("--target", required=True, metavar="SLUG", help="the player")
        parser.add_argument(
            "--tidy",
            action="store_true",
            help="rename or remove what earlier deliveries left and this one does not want",
        )
        parser.add_argument("--dry-run", action="store_true", help="forecast only")
        parser.add_argument(
            "--jobs", type=int, default=default_jobs(), metavar="N", help="at once; default: one per core"
        )
        parser.add_argument(
            "sources", nargs="+", type=Path, metavar="SRC", help="lists, files and folders, in playing order"
        )

    def work(self, options: dict[str, Any]) -> bool:
        target = find_target(options["target"])
        volume = volume_at(options["volume"], volume_kind_for(options["volume_kind"]))
        sources, lists = gather_with_lists(
            options["sources"], once=not target.playlists.folder_each, leave_out=[volume.root]
        )
        for found in lists:
            if found.named and found.missing:
                missing = counted(len(found.missing), "entry is", "entries are")
                raise PlaylistError(f"{found.path.name}: {missing} missing, the first is {found.missing[0]}.")
        ledger = ResultLedger.for_destination(settings.RUMBREL.ledger, volume.root)
        if not options["dry_run"]:
            bring_back(volume)
        plan = plan_delivery(sources, target, volume, lists=lists, ledger=ledger, tidies=options["tidy"])
        return self._show_forecast(plan, options) if options["dry_run"] else self._run(plan, options)

    def _show_forecast(self, plan: DeliveryPlan, options: dict[str, Any]) -> bool:
        numbers = plan.order.numbers
        for step in plan.steps:
            played = numbers.get(Path(step.output).relative_to(plan.volume.root)) if step.output else None
            text = f"{plan.fate(step)}: {step.source.path} -> {step.output}" + (
                f", plays as {played}" if played else ""
            )
            self.report(step.as_record() | {"plays_as": played}, text, options)
        for path in plan.unwanted:
            self.report({"removed": path}, f"remove: {path}", options)
        self._left_over(plan, options)
        if not plan.fits:
            raise OutputError(f"{plan.needed_bytes:,} bytes are needed, {plan.volume.free_bytes:,} are free.")
        return all(step.action != "refuse" for step in plan.steps)

    def _run(self, plan: DeliveryPlan, options: dict[str, Any]) -> bool:
        all_ok, line = True, ProgressLine()
        settings.RUMBREL.data.mkdir(parents=True, exist_ok=True)
        # Of each volume its own, the same at every run, so that what a kill leaves goes at the next.
        making = settings.RUMBREL.data / f"deliver{plan.volume.root}".replace("/", "-")
        with working_file(making.with_name(f"{making.name}.lock")), working_folder(making) as work:
            for result in deliver(plan, work, jobs=options["jobs"], report=line):
                all_ok &= result.ok
                line.clear()
                self.report(result.as_record(), _sentence(result), options)
        self._left_over(plan, options)
        return all_ok

    def _left_over(self, plan: DeliveryPlan, options: dict[str, Any]) -> None:
        for path in plan.left_over:
            text = f"left over: {path} is from an earlier delivery, and the player plays it too. --tidy removes it."
            self.report({"left_over": path}, text, options)


def _sentence(result: Delivered | WrittenList | Ordered) -> str:
    if not isinstance(result, Delivered):
        return result.sentence
    step = result.step
    text = f"{step.action}: {step.source.path}" + (f" -> {result.output}" if result.output else "")
    return f"{text}. {result.error}" if result.error else text
