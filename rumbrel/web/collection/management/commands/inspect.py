"""./run inspect: the facts and faults of files."""

from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES, kind_label
from rumbrel.core.inspection import inspect_file
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "Say what files really are, by their content."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("files", nargs="+", type=Path, metavar="FILE", help="a file, or a folder to walk")

    def work(self, options: dict[str, Any]) -> bool:
        all_ok = True
        for source in gather_sources(options["files"]):
            facts = inspect_file(source.path)
            if not source.named and not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
                continue
            all_ok &= facts.ok
            kind = kind_label(facts.container, facts.codec) if facts.codec else "no sound"
            depth = f"/{facts.bit_depth}" if facts.bit_depth else ""
            text = (
                f"{facts.path}: {kind} {facts.sample_rate / 1000:g} kHz{depth}, {facts.channels} ch, "
                f"{facts.samples} samples, {facts.bitrate_bps // 1000} kbit/s"
            )
            text += "".join(f"\n  {problem.code}: {problem.text}" for problem in facts.problems)
            for line in text.split("\n") if not options["json"] else [""]:
                self.report(facts.as_record(), line, options)
        return all_ok
