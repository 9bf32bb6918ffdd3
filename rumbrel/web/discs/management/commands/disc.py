"""./run disc: a list or files as an image of an audio CD."""

import sys
from pathlib import Path
from typing import Any

from django.core.management.base import CommandError, CommandParser

from rumbrel.core.bench.recorder import StandInRecorder
from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.media import MEDIA, medium_for
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND, format_msf
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.playlists import ListEntry, read_m3u
from rumbrel.web.ui.commands import ReportingCommand

DOES_NOT_FIT = 2


class Command(ReportingCommand):
    help = "Lay out a list or files on a disc and write the image, NAME.bin and NAME.cue."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--out", required=True, type=Path, metavar="DIR")
        parser.add_argument("--name", metavar="NAME")
        parser.add_argument("--gap", type=float, default=2.0, metavar="SECONDS")
        parser.add_argument("--medium", choices=[medium.key for medium in MEDIA], default="80")
        parser.add_argument("sources", nargs="+", type=Path, metavar="LIST.m3u8|FILE")

    def work(self, options: dict[str, Any]) -> bool:
        gap_sectors = round(options["gap"] * SECTORS_PER_SECOND)
        if not 0 <= options["gap"] <= 60:
            raise DiscError(f"A gap of {options['gap']:g} s is none of 0 to 60 s.")
        medium = medium_for(options["medium"])
        layout = lay_out([_programme(e) for e in _entries(options["sources"])], gap_sectors=gap_sectors, medium=medium)
        failed = [finding for finding in layout.findings() if finding.verdict == "failed"]
        if failed:
            self.report({**layout.as_record(), "written": False, "error": failed[0].text}, _summary(layout), options)
            raise CommandError(f"Nothing written: {failed[0].text}.", returncode=DOES_NOT_FIT)
        name = options["name"] or options["sources"][0].stem
        if Path(name).name != name or name in (".", ".."):
            raise DiscError(f"'{name}' is no file name.")
        written = StandInRecorder(speed=medium.careful_speed).write(layout, options["out"], name, _progress)
        record = {
            **layout.as_record(),
            "written": True,
            "bin": str(written.image.bin_path),
            "cue": str(written.image.cue_path),
            "read_back_equal": written.equal,
        }
        self.report(record, _summary(layout), options)
        return written.equal


def _entries(sources: list[Path]) -> list[ListEntry]:
    entries: list[ListEntry] = []
    for source in sources:
        if source.suffix.lower() in (".m3u", ".m3u8"):
            entries += read_m3u(source)
        else:
            entries.append(ListEntry(path=source))
    return entries


def _programme(entry: ListEntry) -> Programme:
    facts = inspect_file(entry.path)
    if not facts.usable or not facts.ok:
        raise DiscError(f"{entry.path} cannot be put on a disc: {facts.problems[0].text}")
    return Programme(
        path=str(entry.path),
        choice=facts.choice(),
        title=facts.tags.first("title") or entry.title or entry.path.stem,
        performer=facts.tags.first("artist"),
        samples=facts.samples,
        sample_rate=facts.sample_rate,
        lossless=facts.lossless,
    )


def _summary(layout: DiscLayout) -> str:
    word = "free" if layout.free_sectors >= 0 else "over"
    return (
        f"{len(layout.tracks)} tracks, {format_msf(layout.total_sectors)} on the {layout.medium.label}, "
        f"{format_msf(abs(layout.free_sectors))} {word}"
    )


def _progress(step: str, share: float) -> None:
    if sys.stderr.isatty():
        sys.stderr.write(f"\r{step} {100 * share:.0f} % ")
        sys.stderr.flush()
