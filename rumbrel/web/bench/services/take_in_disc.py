"""Put discs into drives, and take them in: read with proof, heard and kept where there is doubt, made for each target."""

import base64
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import QuerySet

from rumbrel.core.bench.drive import BENCH_DRIVES, StandInDrive, drive_for, drive_with
from rumbrel.core.conversion import Outcome, run_steps, verify_step
from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.known_again import DiscMark, disc_mark, same_disc
from rumbrel.core.disc.known_discs import names_offered
from rumbrel.core.disc.proof import digests_beside
from rumbrel.core.disc.reading import Contents, ContentsTrack, TrackReading, with_hidden
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import ForecastOptions, Step, WhenPresent
from rumbrel.core.progress import Progress, Unit, within
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import Target, find_target
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.take_in import (
    HIDDEN_TITLE,
    TakeInPlan,
    plain_names,
    plan_take_in,
    read_track_file,
    take_emphasis_out,
    taken_step,
    write_log,
    write_sheet,
)
from rumbrel.web.collection.services import add_folder
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.asking import who_asks
from rumbrel.web.ui.words import counted

from ..models import BenchChoice, DiscNames, Drive, TakeIn
from .shelf import shelf_disc

__all__ = [
    "ALIKE",
    "BLANK",
    "REMEMBERED",
    "bench_choice",
    "change_names",
    "choose_names",
    "choose_reading",
    "choose_targets",
    "contents_of",
    "has_emphasis",
    "has_hidden",
    "keep_doubtful",
    "mark_of",
    "names_for_disc",
    "put_disc_in",
    "readings_of",
    "start_take_in",
    "take_disc_out",
    "take_in_disc",
    "track_file",
]

REMEMBERED, BLANK = "as you named it", "nothing"
ALIKE = "as you named a disc with these track lengths"
_USUAL_TARGETS = ["archive-flac"]


def bench_choice() -> BenchChoice:
    """Of who asks."""
    return BenchChoice.objects.get_or_create(owner=who_asks(), defaults={"targets": _USUAL_TARGETS})[0]


def put_disc_in(*, drive: str, disc_key: str) -> TakeIn:
    """Put a disc into a drive, in place of the one that is there; begins at once where that was chosen. Raises
    DiscError for what no drive shows tracks of, and while the drive reads."""
    if drive not in BENCH_DRIVES:
        raise DiscError(f"There is no drive '{drive}' on the bench.")
    disc = shelf_disc(disc_key)
    contents = disc.open().contents
    mark = disc_mark(StandInDrive(disc.path, drive_with(drive_for(drive), drive_for(disc.condition))))
    with transaction.atomic():
        take_disc_out(drive=drive)
        Drive.objects.update_or_create(key=drive, defaults={"disc_key": disc_key})
        source, names = _names(contents, mark)[0]
        taken = TakeIn.objects.create(
            drive_key=drive, disc_key=disc_key, disc_label=disc.label[:200], digest=mark.table, said=mark.said,
            sound=mark.sound, contents=_contents_record(contents), names=names, names_from=source, targets=bench_choice().targets,
            chosen=[track.number for track in contents.tracks],
        )  # fmt: skip
    if bench_choice().begin_at_once:
        start_take_in(taken=taken)
    return taken


def take_disc_out(*, drive: str) -> None:
    """Raises DiscError while the drive reads it. A disc of which nothing was taken in leaves no trace."""
    with transaction.atomic():
        for taken in TakeIn.objects.select_related("job").filter(drive_key=drive, in_drive=True):
            if taken.busy:
                raise DiscError(
                    f"The drive is reading {taken}. Stop that, or wait for its end, then take the disc out."
                )
            if taken.readings:
                TakeIn.objects.filter(pk=taken.pk).update(in_drive=False)
            else:
                taken.delete()
        Drive.objects.filter(key=drive).update(disc_key="")


def _contents_record(contents: Contents) -> dict[str, Any]:
    return {
        "tracks": [as_record(track) for track in contents.tracks], "lead_out_sector": contents.lead_out_sector,
        "product_code": contents.product_code, "text": base64.b64encode(contents.text).decode(),
    }  # fmt: skip


def contents_of(taken: TakeIn) -> Contents:
    """With what lies before track 1, where that is wanted."""
    return with_hidden(_on_disc(taken)) if taken.hidden else _on_disc(taken)


def _on_disc(taken: TakeIn) -> Contents:
    tracks = tuple(from_record(ContentsTrack, each) for each in taken.contents["tracks"])
    return Contents(
        tracks=tracks, lead_out_sector=taken.contents["lead_out_sector"],
        product_code=taken.contents.get("product_code", ""),
        text=base64.b64decode(taken.contents.get("text", "")),
    )  # fmt: skip


def mark_of(row: TakeIn | DiscNames) -> DiscMark:
    return DiscMark(table=row.digest, said=row.said, sound=row.sound)


def _names(contents: Contents, mark: DiscMark) -> list[tuple[str, dict[str, Any]]]:
    """Everything that knows names for a disc, the best first: the user's own, the disc's text, the catalogue, nothing; and last
    what was given to a disc that may be another one."""
    judged = [(same_disc(mark, mark_of(own)), own.names) for own in DiscNames.objects.filter(digest=mark.table)]
    found = [(REMEMBERED, names) for verdict, names in judged if verdict is Verdict.PASSED][:1]
    found += [(source, _record(text)) for source, text in names_offered(contents)]
    found += [(ALIKE, names) for verdict, names in judged if verdict is Verdict.DOUBTFUL][:1]
    return [*found, (BLANK, _record(plain_names(contents)))]


def names_for_disc(taken: TakeIn) -> list[tuple[str, dict[str, Any]]]:
    """As the disc itself says them, which only its drive knows."""
    try:
        contents = shelf_disc(taken.disc_key).open().contents
    except DiscError:
        contents = _on_disc(taken)
    return [(source, _with_hidden(names, taken.hidden)) for source, names in _names(contents, mark_of(taken))]


def _with_hidden(names: dict[str, Any], hidden: bool) -> dict[str, Any]:
    first = [{"title": HIDDEN_TITLE, "performer": names["performer"]}] if hidden else []
    return {**names, "tracks": [*first, *names["tracks"]]}


def _record(text: DiscText) -> dict[str, Any]:
    tracks = [{"title": track.title, "performer": track.performer or text.disc.performer} for track in text.tracks]
    return {"title": text.disc.title, "performer": text.disc.performer, "tracks": tracks}


def _text(names: Mapping[str, Any]) -> DiscText:
    tracks = tuple(TrackText(title=track["title"], performer=track["performer"]) for track in names["tracks"])
    return DiscText(disc=TrackText(title=names["title"], performer=names["performer"]), tracks=tracks)


def _changeable(taken: TakeIn) -> None:
    if taken.busy or taken.results:
        raise DiscError("Its tracks are being made, or are made already. Edit their tags in the collection instead.")


def choose_names(*, taken: TakeIn, source: str) -> None:
    """Take the names of one of those that know the disc. Raises DiscError when nobody of that name does."""
    _changeable(taken)
    found = dict(names_for_disc(taken)).get(source)
    if found is None:
        raise DiscError("None of the known discs with these track lengths has that name.")
    TakeIn.objects.filter(pk=taken.pk).update(names=found, names_from=source)


def change_names(*, taken: TakeIn, names: Mapping[str, Any], chosen: Sequence[int]) -> None:
    """The user's own names and choice of tracks; the names are remembered for this disc."""
    _changeable(taken)
    if not chosen:
        raise DiscError("Choose at least one track to take in.")
    before = taken.names
    TakeIn.objects.filter(pk=taken.pk).update(
        names=dict(names), chosen=list(chosen), names_from=REMEMBERED if dict(names) != before else taken.names_from
    )
    if dict(names) != before:
        of_disc = {**names, "tracks": names["tracks"][1 if taken.hidden else 0 :]}
        DiscNames.objects.update_or_create(
            digest=taken.digest, said=taken.said, sound=taken.sound, defaults={"names": of_disc}
        )


def choose_reading(*, taken: TakeIn, hidden: bool, deemphasis: bool) -> None:
    """Whether what lies before track 1 is taken in as a track, and pre-emphasis taken out. Raises DiscError where there
    is none of it, or something was read already."""
    if (hidden, deemphasis) == (taken.hidden, taken.deemphasis):
        return
    _changeable(taken)
    if taken.readings:
        raise DiscError("Some of it has been read already. Take the disc out and put it in again to read it otherwise.")
    contents = _on_disc(taken)
    if (hidden and not has_hidden(contents)) or (deemphasis and not has_emphasis(contents)):
        raise DiscError("This disc has none of that.")
    if hidden != taken.hidden:
        plain = {**taken.names, "tracks": taken.names["tracks"][1 if taken.hidden else 0 :]}
        taken.names = _with_hidden(plain, hidden)
        taken.chosen = sorted({*taken.chosen, 0} if hidden else {*taken.chosen} - {0})
    taken.hidden, taken.deemphasis = hidden, deemphasis
    taken.save(update_fields=["names", "chosen", "hidden", "deemphasis"])


def has_hidden(contents: Contents) -> bool:
    return bool(contents.tracks and contents.tracks[0].start_sector)


def has_emphasis(contents: Contents) -> bool:
    return any(track.pre_emphasis for track in contents.tracks)


def choose_targets(*, taken: TakeIn, slugs: Sequence[str], begin_at_once: bool) -> None:
    """What its tracks become, for this disc and for those to come. Raises TargetError for a target there is not."""
    _changeable(taken)
    kept = [find_target(slug).slug for slug in dict.fromkeys(slugs) if slug]
    if not kept:
        raise DiscError("Choose a target for what is taken in.")
    TakeIn.objects.filter(pk=taken.pk).update(targets=kept)
    choice = bench_choice()
    choice.targets, choice.begin_at_once = kept, begin_at_once
    choice.save()


def start_take_in(*, taken: TakeIn) -> Job:
    """Queue it, or what is left of it."""
    job = start_job(kind="take-in", subject=taken.pk, title=f"Take in {taken}", once_more=True)
    TakeIn.objects.filter(pk=taken.pk).update(job=job)
    return job


def keep_doubtful(*, taken: TakeIn, number: int) -> Job:
    """The user wants a doubtful or failed track all the same. Raises DiscError for one that was not read."""
    if str(number) not in taken.readings:
        raise DiscError("That track has not been read yet.")
    TakeIn.objects.filter(pk=taken.pk).update(kept=sorted({*taken.kept, number}))
    return start_take_in(taken=taken)


def track_file(taken: TakeIn, number: int) -> Path:
    """Where a track that was read lies until it is made into results."""
    return settings.RUMBREL.reading / str(taken.pk) / f"{number:02d}.wav"


def readings_of(taken: TakeIn) -> dict[int, dict[str, Any]]:
    return {int(number): record for number, record in taken.readings.items()}


def take_in_disc(desk: Desk, taken_id: int) -> str:
    """Read what was not read yet, make what may be made; returns what became of it. Safe to run twice: it goes on
    where it was."""
    taken = TakeIn.objects.get(pk=taken_id)
    contents = contents_of(taken)
    total = contents.lead_out_sector - contents.tracks[0].start_sector
    whole = Progress(done=0, total=max(1, total), unit=Unit.SECTORS)
    _read(desk, taken, contents, whole)
    taken.refresh_from_db()
    made = _make(desk, taken, contents, whole)
    taken.refresh_from_db()
    doubtful = [n for n, record in readings_of(taken).items() if _waits(taken, n, record)]
    said = f"{counted(made, 'track')} taken in" if made else "No track has been taken in yet"
    if taken.folder and made:
        said += f" to {taken.folder}"
    if doubtful:
        said += f"; {counted(len(doubtful), 'track')} {'is' if len(doubtful) == 1 else 'are'} doubtful: listen and accept, or leave"
    return f"{said}."


def _waits(taken: TakeIn, number: int, record: Mapping[str, Any]) -> bool:
    return record["verdict"] != Verdict.PASSED and number not in taken.kept and number in taken.chosen


def _read(desk: Desk, taken: TakeIn, contents: Contents, whole: Progress) -> None:
    drive = None
    for position, track in enumerate(contents.tracks):
        path = track_file(taken, track.number)
        before = track.start_sector - contents.tracks[0].start_sector
        there = str(track.number) in taken.readings and (path.is_file() or str(track.number) in taken.results)
        if track.number not in taken.chosen or there:
            continue
        drive = drive or _drive(taken)
        path.parent.mkdir(parents=True, exist_ok=True)
        part = replace(whole, done=before)
        written = digests_beside(shelf_disc(taken.disc_key).path)
        reading = read_track_file(
            contents, drive, position, path, part, within(desk.report, whole, 0.0, 0.8), written=written
        )
        if taken.deemphasis and track.pre_emphasis:
            take_emphasis_out(path)
        with transaction.atomic():
            fresh = TakeIn.objects.select_for_update().get(pk=taken.pk)
            fresh.readings = {**fresh.readings, str(track.number): _reading_record(reading)}
            fresh.save(update_fields=["readings"])
        taken.readings = fresh.readings


def _reading_record(reading: TrackReading) -> dict[str, Any]:
    """With the addresses of sectors from the track's beginning, for its ruler."""
    return {
        **reading.as_record(),
        "start_sector": reading.start_sector,
        "reread_at": [sector - reading.start_sector for sector in reading.reread],
        "failed_at": [sector - reading.start_sector for sector in reading.failed],
    }


def _drive(taken: TakeIn) -> StandInDrive:
    """The drive with the disc in it. Raises DiscError when it was taken out, or changed for another."""
    if not Drive.objects.filter(key=taken.drive_key, disc_key=taken.disc_key).exists():
        raise DiscError(f"{taken} is no longer in the drive. Put it in again, then continue.")
    disc = shelf_disc(taken.disc_key)
    kind = drive_with(drive_for(taken.drive_key), drive_for(disc.condition))
    return StandInDrive(disc.path, kind)


def _make(desk: Desk, taken: TakeIn, contents: Contents, whole: Progress) -> int:
    """Make what may be kept and was not made, each noted as it lands; returns how many tracks there are then."""
    may = [
        position for position, track in enumerate(contents.tracks)
        if (record := taken.readings.get(str(track.number))) is not None and track.number in taken.chosen
        and not _waits(taken, track.number, record)
    ]  # fmt: skip
    plans = [_plan(taken, find_target(slug)) for slug in taken.targets]
    steps, records = {}, []
    for plan in plans:
        readings = [_restored(record) for _, record in sorted(readings_of(taken).items())]
        records.append(write_log(plan, readings, taken.drive_key))
        for position in may:
            number, slug = contents.tracks[position].number, plan.target.slug
            if slug in taken.results.get(str(number), {}):
                continue
            step = taken_step(plan, track_file(taken, number), position)
            if there := _made_before(taken, number, slug, step):
                _note_result(taken, number, slug, there)
                continue
            steps[step.output] = (number, slug, step)
    report = within(desk.report, whole, 0.8, 1.0)
    for event in run_steps([step for _, _, step in steps.values()], jobs=default_jobs()):
        if isinstance(event, Progress):
            report(replace(event, step="making"))
            continue
        _settled(event)
        number, slug, step = steps[event.step.output]
        _note_result(taken, number, slug, step.output)
    for plan, record in zip(plans, records, strict=True):
        files = [
            (position, Path(output).name) for position, track in enumerate(contents.tracks)
            if (output := taken.results.get(str(track.number), {}).get(plan.target.slug))
        ]  # fmt: skip
        write_sheet(plan, files, record)
    folder = plans[0].destination / plans[0].folder_name if plans else None
    TakeIn.objects.filter(pk=taken.pk).update(folder=str(folder or ""))
    for key, made in taken.results.items():
        if all(slug in made for slug in taken.targets):
            track_file(taken, int(key)).unlink(missing_ok=True)
    if folder is not None and steps and folder.is_dir():
        add_folder(path=str(folder))
    _sweep(taken)
    return len(taken.results)


def _note_result(taken: TakeIn, number: int, slug: str, output: str) -> None:
    made = taken.results.get(str(number), {})
    taken.results = {**taken.results, str(number): {**made, slug: output}}
    TakeIn.objects.filter(pk=taken.pk).update(results=taken.results)


def _made_before(taken: TakeIn, number: int, slug: str, step: Step) -> str:
    """The lossless result that an earlier taking in made of the same sound under the same names, if it still is what the
    step would make; "" for none. It is kept once. Of a lossy one nothing tells by which settings it was made."""
    if not encoding_for(step.encoding).lossless:
        return ""
    reading = taken.readings[str(number)]
    for before in _before(taken):
        made = before.results.get(str(number), {}).get(slug, "")
        same_sound = before.readings.get(str(number), {}).get("digest") == reading["digest"]
        same_names = _names_of(before, number) == _names_of(taken, number)
        if made and same_sound and same_names and verify_step(replace(step, output=made)).ok:
            return str(made)
    return ""


def _before(taken: TakeIn) -> QuerySet[TakeIn]:
    """Earlier takings in of the same disc that came to something, the latest first."""
    others = TakeIn.objects.filter(digest=taken.digest).exclude(pk=taken.pk).exclude(results={})
    return others.order_by("-pk")


def _names_of(taken: TakeIn, number: int) -> tuple[object, ...]:
    """Everything that a track's tags are made of, and whether its sound was treated."""
    names = taken.names
    return (
        names["title"], names["performer"], names["tracks"][number - (0 if taken.hidden else 1)], taken.deemphasis,
    )  # fmt: skip


def _settled(outcome: Outcome) -> None:
    """Raises DiscError for a track that could not be made: nothing of it is called taken in."""
    if not outcome.ok:
        raise DiscError(f"{Path(outcome.step.output).name} could not be made: {outcome.error}")


def _plan(taken: TakeIn, target: Target) -> TakeInPlan:
    return plan_take_in(
        _on_disc(taken), names=_text(taken.names), hidden=taken.hidden, deemphasis=taken.deemphasis, target=target, destination=settings.RUMBREL.results / target.slug,
        options=ForecastOptions(when_present=_when_present(taken)), run=f"take-in {taken.pk}",
    )  # fmt: skip


def _when_present(taken: TakeIn) -> WhenPresent:
    """What an earlier taking in made otherwise stays as it is, and the new results stand beside it, with numbers."""
    return WhenPresent.NUMBER if _before(taken).exists() else WhenPresent.SKIP


def _restored(record: Mapping[str, Any]) -> TrackReading:
    """A reading as the log states it; its addresses are those of the disc."""
    return TrackReading(
        number=record["number"], start_sector=record["start_sector"], sectors=record["sectors"], verdict=Verdict(record["verdict"]),
        digest=record["digest"], reread=tuple(record["start_sector"] + at for at in record["reread_at"]),
        failed=tuple(record["start_sector"] + at for at in record["failed_at"]),
        slowest_speed=record["slowest_speed"], unreached_samples=record["unreached_samples"],
        as_written=record.get("as_written"), differs=record.get("differs") or "",
    )  # fmt: skip


def _sweep(taken: TakeIn) -> None:
    folder = settings.RUMBREL.reading / str(taken.pk)
    if folder.is_dir() and not any(folder.iterdir()):
        shutil.rmtree(folder, ignore_errors=True)
