"""Take in a disc: read its tracks with proof, convert them for a target, and keep a log and a sheet."""

import hashlib
import json
import wave
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.disc.cue_sheet import quoted
from rumbrel.core.disc.known_discs import KnownDisc, names_for
from rumbrel.core.disc.packs import fullest_text
from rumbrel.core.disc.proof import WrittenDigests
from rumbrel.core.disc.reading import Contents, DiscDrive, TrackReading, contents_digest, read_track, with_hidden
from rumbrel.core.disc.red_book import CHANNELS, SAMPLE_RATE, format_msf
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError, OutputError
from rumbrel.core.files import is_working, move_into_place, output_errors, refusal_reason, working_file, write_whole
from rumbrel.core.forecast import ForecastOptions, Source, Step, forecast_batch
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.places import file_system_for, fitted_name
from rumbrel.core.progress import Progress, Report, Unit, no_report
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.stages import Treatment, build_chain
from rumbrel.core.tags import TagSet
from rumbrel.core.targets import Target
from rumbrel.core.verdict import Verdict

from .disc_sounds import PRE_EMPHASIS

__all__ = [
    "HIDDEN_TITLE",
    "TakeInPlan",
    "TakenTrack",
    "plain_names",
    "plan_take_in",
    "read_track_file",
    "take_emphasis_out",
    "take_in",
    "taken_step",
    "write_log",
    "write_sheet",
]


HIDDEN_TITLE = "Before track 1"


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeInPlan:
    """What is on the disc and what its tracks are called. digest tells the disc; deemphasis says that pre-emphasis is
    taken out of the sound, written are the digests that lie beside an image. run tells one taking in of the disc from
    others; "" has it told by what it found."""

    contents: Contents
    names: DiscText
    digest: str
    target: Target
    destination: Path
    options: ForecastOptions
    folder_name: str
    deemphasis: bool = False
    written: WrittenDigests = field(default_factory=WrittenDigests)
    run: str = ""

    @property
    def title(self) -> str:
        return self.names.disc.title or "Disc"


@dataclass(frozen=True, slots=True, kw_only=True)
class TakenTrack:
    """A track that was read and converted."""

    reading: TrackReading
    outcome: Outcome

    @property
    def ok(self) -> bool:
        return self.outcome.ok and self.reading.verdict is not Verdict.FAILED

    def as_record(self) -> dict[str, Any]:
        """The fields of `takein --json`, in its order."""
        step = self.outcome.step
        return {
            **self.reading.as_record(),
            "output": step.output,
            "ok": self.ok,
            "title": step.source.tags.first("title"),
            "error": self.outcome.error or None,
        }


def plan_take_in(
    contents: Contents,
    *,
    known: Sequence[KnownDisc] = (),
    names: DiscText | None = None,
    target: Target,
    destination: Path,
    options: ForecastOptions,
    hidden: bool = False,
    deemphasis: bool = False,
    written: WrittenDigests | None = None,
    run: str = "",
) -> TakeInPlan:
    """Names as they are given, from the catalogue that is named, the disc's own text, or plain numbers. Another disc of
    a title that is there already goes into a folder of its own. hidden takes what lies before track 1 in as a track of
    its own, the first of the names where these are one more; raises DiscError where nothing does."""
    names = names or names_for(contents, known) or plain_names(contents)
    digest = contents_digest(contents)
    if hidden:
        own = (
            names.tracks if len(names.tracks) > len(contents.tracks) else (TrackText(title=HIDDEN_TITLE), *names.tracks)
        )
        contents, names = with_hidden(contents), replace(names, tracks=own)
    return TakeInPlan(
        contents=contents,
        names=names,
        digest=digest,
        target=target,
        destination=destination,
        options=options,
        folder_name=_own_folder(destination, names.disc.title or "Disc", digest),
        deemphasis=deemphasis,
        written=written or WrittenDigests(),
        run=run,
    )


def _own_folder(destination: Path, title: str, digest: str) -> str:
    """The folder of a title, with a number where another disc of that title has been taken in."""
    name, number = _file_name(title), 1
    while _disc_in(destination / name) not in (None, digest):
        number += 1
        name = _file_name(f"{title} ({number})")
    return name


def _disc_in(folder: Path) -> str | None:
    """The digest of the disc whose tracks a folder holds; "" where it holds something else, None for nothing."""
    if not folder.exists():
        return None
    try:
        return str(json.loads((folder / f"{folder.name}.log.json").read_text())["disc"])
    except FileNotFoundError:
        # What a stopped run left is no disc.
        return None if all(is_working(path.name) for path in folder.iterdir()) else ""
    except (OSError, ValueError, KeyError, TypeError):
        return ""


def take_in(
    plan: TakeInPlan, drive: DiscDrive, work: Path, *, drive_label: str, jobs: int, report: Report = no_report
) -> Iterator[TakenTrack]:
    """Read every track into the work folder, convert all, write log and sheet, and yield what became of each.

    Raises DiscError, OutputError.
    """
    readings: list[TrackReading] = []
    steps: list[Step] = []
    total = plan.contents.lead_out_sector - plan.contents.tracks[0].start_sector
    done = 0
    for number in range(len(plan.contents.tracks)):
        path = work / _track_name(plan, number)
        whole = Progress(done=done, total=total, unit=Unit.SECTORS)
        reading = read_track_file(plan.contents, drive, number, path, whole, report, written=plan.written)
        if plan.deemphasis and plan.contents.tracks[number].pre_emphasis:
            take_emphasis_out(path)
        done += reading.sectors
        readings.append(reading)
        steps.append(taken_step(plan, path, number))
    # The log first: by it the folder is known as this disc's when the work is stopped and begun again.
    record = write_log(plan, readings, drive_label)
    outcomes: dict[str, Outcome] = {}
    for event in run_steps(steps, jobs=jobs):
        if isinstance(event, Outcome):
            outcomes[event.step.source.path] = event
        else:
            report(event)
    write_sheet(plan, [(step.source_id, Path(step.output).name) for step in steps], record)
    for reading, step in zip(readings, steps, strict=True):
        yield TakenTrack(reading=reading, outcome=outcomes[step.source.path])


def plain_names(contents: Contents) -> DiscText:
    """Numbers, where nobody knows the disc."""
    tracks = tuple(TrackText(title=f"Track {track.number:02d}") for track in contents.tracks)
    return DiscText(disc=TrackText(title=f"Disc {contents_digest(contents)[:8]}"), tracks=tracks)


def _file_name(title: str) -> str:
    return fitted_name(title, "", file_system_for("fat32"))


def _track_name(plan: TakeInPlan, number: int) -> str:
    """What a track that was read is called, before its conversion gives it an ending of its own."""
    track = plan.contents.tracks[number].number
    return fitted_name(f"{track:02d} {plan.names.tracks[number].title}", ".wav", file_system_for("fat32"))


def read_track_file(
    contents: Contents,
    drive: DiscDrive,
    number: int,
    path: Path,
    progress: Progress,
    report: Report = no_report,
    *,
    written: WrittenDigests | None = None,
) -> TrackReading:
    """Read one track, by its position, with proof into a WAV. progress says where in the whole work it begins, written
    are the digests beside an image."""
    track = contents.tracks[number].number
    done = progress.done

    def told(sectors: int) -> None:
        nonlocal done
        done += sectors
        report(replace(progress, done=done, step=f"reading track {track}"))

    blocks, account = read_track(drive, contents, number, progress=told, written=written)
    try:
        with wave.open(str(path), "wb") as file:
            file.setparams((CHANNELS, 2, SAMPLE_RATE, 0, "NONE", ""))
            for block in blocks:
                file.writeframesraw(block)
    except OSError as error:
        raise OutputError(f"The track could not be kept: {refusal_reason(path.parent, error)}.") from error
    return account()


def take_emphasis_out(path: Path) -> None:
    """Write a track that was read anew without its pre-emphasis. Raises OutputError, DecodeError."""
    with working_file(path) as working:
        with open_sound(path, inspect_file(path).choice()) as sound:
            chain = build_chain(sound.shape, sound.shape, Treatment(deemphasis=True))
            with output_errors(path.parent), wave.open(str(working), "wb") as file:
                file.setparams((CHANNELS, 2, SAMPLE_RATE, 0, "NONE", ""))
                for block in sound.blocks():
                    file.writeframesraw(chain.push(block).tobytes())
                for block in chain.finish():
                    file.writeframesraw(block.tobytes())
        move_into_place(working, path, replaces=True)


def taken_step(plan: TakeInPlan, path: Path, number: int) -> Step:
    """The conversion of a track that was read, with the names of the disc as its tags."""
    text, disc, track = plan.names.tracks[number], plan.names.disc, plan.contents.tracks[number]
    fields = {
        "title": text.title, "artist": text.performer or disc.performer, "album": disc.title,
        "track": f"{track.number}/{plan.contents.tracks[-1].number}", "composer": text.composer,
        "songwriter": text.songwriter, "arranger": text.arranger, "isrc": text.isrc or track.isrc,
        "barcode": plan.names.product_code or plan.contents.product_code,
        "pre_emphasis": PRE_EMPHASIS if track.pre_emphasis and not plan.deemphasis else "",
    }  # fmt: skip
    tags = TagSet(fields={name: (value,) for name, value in fields.items() if value})

    def inspect(each: Path) -> Facts:
        return replace(inspect_file(each), tags=tags)

    source = Source(id=number, path=path, relative=Path(plan.folder_name) / _track_name(plan, number))
    forecast = forecast_batch([source], plan.target, plan.destination, options=plan.options, inspect=inspect)
    return forecast.steps[0]


def write_log(plan: TakeInPlan, readings: Sequence[TrackReading], drive_label: str) -> str:
    """How each track was read, beside its result. Returns the name of this taking in's own records: those of another one
    that lie there stay as they are. Raises OutputError."""
    log = {
        "disc": plan.digest,
        "title": plan.names.disc.title,
        "product_code": plan.names.product_code or plan.contents.product_code or None,
        "drive": drive_label,
        "tracks": [{**reading.as_record(), **_said_of(plan, reading.number)} for reading in readings],
    }
    run = plan.run or hashlib.blake2b(json.dumps(log).encode(), digest_size=10).hexdigest()
    folder = plan.destination / plan.folder_name
    name, number = plan.folder_name, 1
    while _run_in(folder / f"{name}.log.json") not in (None, run):
        number += 1
        name = f"{plan.folder_name} ({number})"
    write_whole(folder / f"{name}.log.json", json.dumps({**log, "taken_in": run}, indent=1) + "\n")
    return name


def _run_in(log: Path) -> str | None:
    """Which taking in a log is of, "" for one that does not say; None where there is no log."""
    try:
        return str(json.loads(log.read_text()).get("taken_in", ""))
    except FileNotFoundError:
        return None
    except (OSError, ValueError, AttributeError):
        return ""


def _said_of(plan: TakeInPlan, number: int) -> dict[str, Any]:
    """What the disc says of a track beside its sound."""
    position = next(at for at, track in enumerate(plan.contents.tracks) if track.number == number)
    track = plan.contents.tracks[position]
    return {
        "isrc": plan.names.tracks[position].isrc or track.isrc or None,
        "pre_emphasis": track.pre_emphasis,
        "emphasis_taken_out": track.pre_emphasis and plan.deemphasis,
        "copy_permitted": track.copy_permitted,
        "indexes_msf": [format_msf(sector - track.start_sector) for sector in track.index_sectors],
    }


def write_sheet(plan: TakeInPlan, files: Sequence[tuple[int, str]], record: str) -> None:
    """A cue sheet of the files that were made, each by its track's position and its name: laid out again, it is the disc.
    record is the name that write_log gave.

    A file goes on through the gap behind its track, so the next one's INDEX 00 lies in it.
    """
    code = plan.names.product_code or plan.contents.product_code
    folder = plan.destination / plan.folder_name
    lines = [f"CATALOG {code}"] if code else []
    if _says_what_its_packs_say(plan):
        # Its CD-Text as it is, with all that a sheet has no words for.
        write_whole(folder / f"{record}.cdt", plan.contents.text)
        lines.append(f"CDTEXTFILE {quoted(f'{record}.cdt')}")
    lines.append(f"TITLE {quoted(plan.names.disc.title)}")
    if plan.names.disc.performer:
        lines.append(f"PERFORMER {quoted(plan.names.disc.performer)}")
    before: int | None = None
    for position, name in files:
        lines += _sheet_lines(plan, position, name, follows=before is not None and before == position - 1)
        before = position
    write_whole(folder / f"{record}.cue", "\n".join(lines) + "\n")


def _says_what_its_packs_say(plan: TakeInPlan) -> bool:
    """Whether the names that are taken are those of the disc's own CD-Text."""
    if not plan.contents.text:
        return False
    try:
        packs = fullest_text(plan.contents.text)
    except DiscError:
        return False
    names = plan.names.tracks[1:] if plan.contents.tracks[0].number == 0 else plan.names.tracks
    said = [(track.title, track.performer or packs.disc.performer) for track in packs.tracks]
    taken = [(track.title, track.performer or plan.names.disc.performer) for track in names]
    return (packs.disc.title, said) == (plan.names.disc.title, taken)


def _sheet_lines(plan: TakeInPlan, position: int, name: str, *, follows: bool) -> list[str]:
    track, text = plan.contents.tracks[position], plan.names.tracks[position]
    if track.number == 0:
        # Sound before track 1 is a part of that track, before its INDEX 01.
        return [f"FILE {quoted(name)} WAVE", "  TRACK 01 AUDIO", "    INDEX 00 00:00:00"]
    emphasis = track.pre_emphasis and not plan.deemphasis
    flags = [word for word, is_set in (("DCP", track.copy_permitted), ("PRE", emphasis)) if is_set]
    about = [
        f"    {key} {quoted(value)}"
        for key, value in (("TITLE", text.title), ("PERFORMER", text.performer), ("SONGWRITER", text.songwriter)) if value
    ]  # fmt: skip
    isrc = text.isrc or track.isrc
    about += [f"    ISRC {isrc}"] if isrc else []
    about += [f"    FLAGS {' '.join(flags)}"] if flags else []
    file, head = [f"FILE {quoted(name)} WAVE"], [f"  TRACK {track.number:02d} AUDIO", *about]
    earlier = plan.contents.tracks[position - 1] if position else None
    if earlier is not None and earlier.number == 0 and follows:
        opening = [*about, *file]
    elif earlier is not None and follows and track.gap_sectors:
        gap = track.start_sector - earlier.start_sector - track.gap_sectors
        opening = [*head, f"    INDEX 00 {format_msf(gap, pad_minutes=True)}", *file]
    else:
        silence = track.start_sector if position == 0 else 0
        opening = [*file, *head, *([f"    PREGAP {format_msf(silence, pad_minutes=True)}"] if silence else [])]
    marks = [0, *(sector - track.start_sector for sector in track.index_sectors)]
    return opening + [f"    INDEX {n:02d} {format_msf(at, pad_minutes=True)}" for n, at in enumerate(marks, 1)]
