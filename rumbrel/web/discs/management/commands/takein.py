"""./run takein: read the tracks of an audio disc, with proof that they were read right."""

import json
import tempfile
import wave
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.bench.drive import DRIVES, StandInDrive, drive_for
from rumbrel.core.bench.image_disc import open_image
from rumbrel.core.conversion import Outcome, default_jobs, run_steps
from rumbrel.core.disc.cue_sheet import CueSheet, quoted
from rumbrel.core.disc.known_discs import names_for, read_known_discs
from rumbrel.core.disc.reading import Contents, TrackReading, contents_digest, read_track
from rumbrel.core.disc.red_book import CHANNELS, SAMPLE_RATE
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import ForecastOptions, Source, Step, WhenPresent, forecast_batch
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.places import file_system_for, fitted_name
from rumbrel.core.tags import TagSet
from rumbrel.core.targets import find_target
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "Read a disc in a stand-in drive into files for a target, with a log."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--target", default="archive-flac", metavar="SLUG")
        parser.add_argument("--out", required=True, type=Path, metavar="DIR")
        parser.add_argument("--drive", choices=[kind.key for kind in DRIVES], default="clean")
        parser.add_argument("--seed", type=int, default=1, help="of the drive's faults")
        parser.add_argument("--names", type=Path, metavar="FILE", help="a catalogue of discs of your own")
        parser.add_argument("--when-present", choices=[str(each) for each in WhenPresent], default="skip")
        parser.add_argument("image", type=Path, metavar="IMAGE.cue")

    def work(self, options: dict[str, Any]) -> bool:
        target = find_target(options["target"])
        drive = StandInDrive(options["image"], drive_for(options["drive"]), seed=options["seed"])
        contents = drive.contents()
        text = names_for(contents, read_known_discs(options["names"]) if options["names"] else ())
        names = text or _plain_names(contents)
        sheet = open_image(options["image"]).sheet
        with tempfile.TemporaryDirectory(prefix="rumbrel-takein-") as work:
            readings, steps = [], []
            for place in range(len(contents.tracks)):
                path, reading = _read(drive, contents, place, names, Path(work))
                readings.append(reading)
                steps.append(_step(path, place, names, sheet, target, options))
            outcomes = {o.step.source.path: o for o in run_steps(steps, jobs=default_jobs()) if isinstance(o, Outcome)}
        folder = options["out"]
        log = _log(contents, names, readings, options)
        _write_log(folder, _file_name(names.disc.title or "Disc"), log, names, steps)
        all_ok = True
        for reading, step in zip(readings, steps, strict=True):
            outcome = outcomes[step.source.path]
            record = {**reading.as_record(), "output": step.output, "ok": outcome.ok and reading.verdict != "failed",
                      "title": step.source.tags.first("title"), "error": outcome.error or None}  # fmt: skip
            all_ok &= bool(record["ok"])
            self.report(record, _sentence(reading, step, outcome), options)
        return all_ok


def _plain_names(contents: Contents) -> DiscText:
    tracks = tuple(TrackText(title=f"Track {track.number:02d}") for track in contents.tracks)
    return DiscText(disc=TrackText(title=f"Disc {contents_digest(contents)[:8]}"), tracks=tracks)


def _file_name(title: str) -> str:
    return fitted_name(title, "", file_system_for("fat32"))


def _read(
    drive: StandInDrive, contents: Contents, place: int, names: DiscText, work: Path
) -> tuple[Path, TrackReading]:
    """Read one track into a WAV in the work folder."""
    number = contents.tracks[place].number
    path = work / fitted_name(f"{number:02d} {names.tracks[place].title}", ".wav", file_system_for("fat32"))
    blocks, account = read_track(drive, contents, place)
    try:
        with wave.open(str(path), "wb") as file:
            file.setparams((CHANNELS, 2, SAMPLE_RATE, 0, "NONE", ""))
            for block in blocks:
                file.writeframesraw(block)
    except OSError as error:
        raise OutputError(f"The track could not be kept in {work}: {error.strerror}.") from error
    return path, account()


def _step(path: Path, place: int, names: DiscText, sheet: CueSheet, target: Any, options: dict[str, Any]) -> Step:
    """The conversion of a track that was read, with the names of the disc as its tags."""
    text = names.tracks[place]
    fields = {
        "title": text.title, "artist": text.performer or names.disc.performer, "album": names.disc.title,
        "track": f"{place + 1}/{len(names.tracks)}", "composer": text.composer, "songwriter": text.songwriter,
        "arranger": text.arranger, "isrc": text.isrc or sheet.tracks[place].isrc,
    }  # fmt: skip
    tags = TagSet(fields={name: (value,) for name, value in fields.items() if value})

    def inspect(each: Path) -> Facts:
        return replace(inspect_file(each), tags=tags)

    source = Source(path=path, relative=Path(_file_name(names.disc.title or "Disc")) / path.name)
    settings = ForecastOptions(when_present=WhenPresent(options["when_present"]))
    return forecast_batch([source], target, options["out"], options=settings, inspect=inspect).steps[0]


def _log(contents: Contents, names: DiscText, readings: list[TrackReading], options: dict[str, Any]) -> dict[str, Any]:
    return {
        "disc": contents_digest(contents),
        "title": names.disc.title,
        "drive": options["drive"],
        "tracks": [reading.as_record() for reading in readings],
    }


def _write_log(folder: Path, name: str, log: dict[str, Any], names: DiscText, steps: list[Step]) -> None:
    """The log, and a cue sheet of the files that were made."""
    place = folder / name
    lines = [f"TITLE {quoted(names.disc.title)}"]
    for number, step in enumerate(steps, 1):
        lines += [f"FILE {quoted(Path(step.output).name)} WAVE", f"  TRACK {number:02d} AUDIO",
                  f"    TITLE {quoted(names.tracks[number - 1].title)}", "    INDEX 01 00:00:00"]  # fmt: skip
    try:
        place.mkdir(parents=True, exist_ok=True)
        for file, text in ((f"{name}.log.json", json.dumps(log, indent=1)), (f"{name}.cue", "\n".join(lines))):
            working = place / f".{file}.part"
            working.write_text(text + "\n", encoding="utf-8")
            working.replace(place / file)
    except OSError as error:
        raise OutputError(f"The log could not be written to {place}: {error.strerror}.") from error


def _sentence(reading: TrackReading, step: Step, outcome: Outcome) -> str:
    text = f"track {reading.number}: {reading.verdict}"
    if reading.reread:
        text += f", {len(reading.reread)} sectors read again"
    if reading.failed:
        places = ", ".join(reading.as_record()["failed"][:5])
        text += f", {len(reading.failed)} sectors could not be read, the first at {places}; they are silence"
    return f"{text} -> {step.output}" + (f". {outcome.error}" if outcome.error else "")
