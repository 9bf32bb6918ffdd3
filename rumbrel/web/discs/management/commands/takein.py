"""./run takein: read the tracks of an audio disc, with proof that they were read right."""

import tempfile
from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.bench.drive import DRIVES, StandInDrive, drive_for
from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.known_discs import read_known_discs
from rumbrel.core.disc.proof import digests_beside
from rumbrel.core.forecast import ForecastOptions, WhenPresent
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.take_in import TakenTrack, plan_take_in, take_in
from rumbrel.web.ui.commands import ReportingCommand
from rumbrel.web.ui.progress_line import ProgressLine
from rumbrel.web.ui.words import counted


class Command(ReportingCommand):
    help = "Read a disc in a stand-in drive into files for a target, with a log."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument(
            "--target",
            default="archive-flac",
            metavar="SLUG",
            help="what the tracks are converted to; default: lossless FLAC",
        )
        parser.add_argument(
            "--out", required=True, type=Path, metavar="DIR", help="a folder for the disc is created in it"
        )
        parser.add_argument(
            "--condition", choices=[kind.key for kind in DRIVES], default="clean", help="of the stand-in drive and disc"
        )
        parser.add_argument("--seed", type=int, default=1, help="of the drive's faults")
        parser.add_argument(
            "--hidden", action="store_true", help="take in what lies before track 1 as a separate track"
        )
        parser.add_argument(
            "--deemphasis", action="store_true", help="take pre-emphasis out of the tracks that have it"
        )
        parser.add_argument("--names", type=Path, metavar="FILE", help="a catalogue of discs of your own")
        parser.add_argument(
            "--when-present",
            choices=[str(each) for each in WhenPresent],
            default="skip",
            help="what to do where a result is already there",
        )
        parser.add_argument("image", type=Path, metavar="IMAGE.cue", help="the cue sheet of an image in BIN")

    def work(self, options: dict[str, Any]) -> bool:
        drive = StandInDrive(options["image"], drive_for(options["condition"]), seed=options["seed"])
        plan = plan_take_in(
            drive.contents(),
            known=read_known_discs(options["names"]) if options["names"] else (),
            target=find_target(options["target"]),
            destination=options["out"],
            options=ForecastOptions(when_present=WhenPresent(options["when_present"])),
            hidden=options["hidden"],
            deemphasis=options["deemphasis"],
            written=digests_beside(options["image"]),
        )
        all_ok, line = True, ProgressLine()
        with tempfile.TemporaryDirectory(prefix="rumbrel-takein-") as work:
            for track in take_in(
                plan, drive, Path(work), drive_label=options["condition"], jobs=default_jobs(), report=line
            ):
                line.clear()
                all_ok &= track.ok
                self.report(track.as_record(), _sentence(track), options)
        return all_ok


def _sentence(track: TakenTrack) -> str:
    reading, step = track.reading, track.outcome.step
    text = f"track {reading.number}: {reading.verdict}"
    if reading.reread:
        text += f", {counted(len(reading.reread), 'sector')} read again"
    if reading.as_written is False:
        text += f", {reading.differs} not what the digests beside the image say was written"
    if reading.failed:
        places = ", ".join(reading.as_record()["failed"][:5])
        failed = counted(len(reading.failed), "sector")
        text += f", {failed} could not be read, the first at {places} (m:s:f); there is silence instead"
    if reading.unreached_samples:
        samples = counted(reading.unreached_samples, "sample")
        text += f", {samples} at the disc's edge lie beyond this drive's reach; there is silence instead"
    return f"{text} -> {step.output}" + (f". {track.outcome.error}" if track.outcome.error else "")
