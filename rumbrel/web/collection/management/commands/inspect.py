"""./run inspect: the facts and faults of files."""

from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.crew import default_jobs
from rumbrel.core.figures import figure
from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES, format_label
from rumbrel.core.inspection import DeepFacts, inspect_many
from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.progress_line import ProgressLine
from rumbrel.web.ui.words import counted


class Command(ReportingCommand):
    help = "Say what files really are, by their content."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--deep", action="store_true", help="decode everything: level, damage, digest, picture")
        parser.add_argument(
            "--jobs", type=int, default=default_jobs(), metavar="N", help="at once; default: one per core"
        )
        parser.add_argument("files", nargs="+", type=Path, metavar="FILE", help="a file, or a folder to walk")

    def work(self, options: dict[str, Any]) -> bool:
        all_ok = True
        sources = gather_sources(options["files"])
        paths = [source.path for source in sources]
        line = ProgressLine()
        found = inspect_many(paths, deep=options["deep"], jobs=options["jobs"], report=line)
        for source, deep in zip(sources, found, strict=True):
            facts = deep.facts
            if not source.named and not facts.sample_rate and source.path.suffix.lower() not in SOUND_SUFFIXES:
                continue
            all_ok &= facts.ok
            record = facts.as_record()
            if options["deep"]:
                record["deep"] = deep.as_record()
            line.clear()
            self.report(record, _sentences(deep), options)
        line.clear()
        return all_ok


def _sentences(deep: DeepFacts) -> list[str]:
    facts = deep.facts
    label = format_label(facts.container, facts.codec) if facts.codec else "no sound"
    depth = f"/{facts.depth_text.removesuffix(' bit')}" if facts.depth_text else ""
    lines = [
        f"{facts.path}: {label} {facts.coded_rate / 1000:g} kHz{depth}, {facts.channels} ch, "
        f"{counted(facts.samples, 'sample')}, {facts.bitrate_bps // 1000} kbit/s {facts.bitrate_mode}"
    ]
    if deep.level and deep.state:
        level, state = deep.level, deep.state
        lines.append(
            f"  {figure(level.integrated_lufs)} LUFS, range {level.range_lu:.1f} LU, "
            f"true peak {figure(level.true_peak_dbtp)} dBTP, {counted(state.clipped_runs, 'clipped run')}"
        )
        if state.channels:
            lines.append(f"  channels: {state.channels_text}")
        if state.used_bits is not None and state.used_bits < (facts.bit_depth or 0):
            lines.append(f"  {state.used_bits} of {facts.bit_depth} bits are used")
    lines += [f"  {fault.code}: {fault.text}" for fault in facts.faults]
    return lines
