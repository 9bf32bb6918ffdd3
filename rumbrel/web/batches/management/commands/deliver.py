"""./run deliver: finished files onto a volume, in playing order, compared there."""

import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import CommandParser

from rumbrel.core.conversion import default_jobs
from rumbrel.core.delivery import Delivered, deliver, plan_delivery
from rumbrel.core.errors import OutputError, PlaylistError
from rumbrel.core.forecast import Source, gather_sources
from rumbrel.core.places import VOLUME_KINDS, volume_at, volume_kind_for
from rumbrel.core.playlists import LIST_SUFFIXES, read_list
from rumbrel.core.targets import find_target
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "Put files and playlists on a volume for a target."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--volume", required=True, type=Path, metavar="DIR")
        parser.add_argument("--volume-kind", choices=[kind.key for kind in VOLUME_KINDS], default="folder")
        parser.add_argument("--target", required=True, metavar="SLUG")
        parser.add_argument("--dry-run", action="store_true", help="forecast only")
        parser.add_argument("--jobs", type=int, default=default_jobs(), metavar="N")
        parser.add_argument("sources", nargs="+", type=Path, metavar="SRC")

    def work(self, options: dict[str, Any]) -> bool:
        target = find_target(options["target"])
        volume = volume_at(options["volume"], volume_kind_for(options["volume_kind"]))
        sources, lists = _gathered(options["sources"], once=not target.playlists.folder_each)
        plan = plan_delivery(sources, target, volume, lists=lists)
        if options["dry_run"]:
            for step in plan.steps:
                self.report(step.as_record(), f"{step.action}: {step.source.path} -> {step.output}", options)
            if not plan.fits:
                raise OutputError(f"{plan.needed_bytes:,} bytes are needed, {volume.free_bytes:,} are free.")
            return all(step.action != "refuse" for step in plan.steps)
        all_ok = True
        settings.DATA.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(dir=settings.DATA, prefix="deliver-") as work:
            for result in deliver(plan, Path(work), jobs=options["jobs"]):
                all_ok &= result.ok
                self.report(result.as_record(), _sentence(result), options)
        return all_ok


def _gathered(places: list[Path], *, once: bool) -> tuple[list[Source], list[tuple[str, list[int]]]]:
    """Sources in playing order, and the lists among them with the places of their tracks.

    once says that a file that stands in several lists, or twice in one, is delivered once.
    """
    sources: list[Source] = []
    lists: list[tuple[str, list[int]]] = []
    known: dict[Path, int] = {}

    def place_of(path: Path) -> int:
        if once and path in known:
            return known[path]
        known[path] = len(sources)
        sources.append(Source(path=path, relative=Path(path.name)))
        return known[path]

    for place in places:
        if place.suffix.lower() not in LIST_SUFFIXES:
            found = [s for s in gather_sources([place]) if s.named or s.path.suffix.lower() not in LIST_SUFFIXES]
            known.update((source.path.absolute(), len(sources) + n) for n, source in enumerate(found))
            sources += found
            continue
        entries = read_list(place).entries
        missing = [entry.written for entry in entries if entry.missing]
        if missing:
            raise PlaylistError(f"{place.name}: {len(missing)} entries are missing, the first is {missing[0]}.")
        lists.append((place.stem, [place_of(entry.path.absolute()) for entry in entries]))
    return sources, lists


def _sentence(result: Delivered) -> str:
    step = result.step
    text = f"{step.action}: {step.source.path}" + (f" -> {result.place}" if result.place else "")
    return f"{text}. {result.error}" if result.error else text
