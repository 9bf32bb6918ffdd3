"""Write a disc on the stand-in recorder and read it back, or go the whole way with the laser off."""

import re
import shutil
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction

from rumbrel.core.bench.blanks import BlankState
from rumbrel.core.bench.recorder import StandInRecorder, TrayOpened
from rumbrel.core.conversion import Outcome
from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.data_disc import FileVerdict, read_back_data, write_data_disc
from rumbrel.core.disc.media import Medium
from rumbrel.core.errors import DiscError
from rumbrel.core.progress import Progress, Report, Throttle, Unit, within
from rumbrel.core.workflows.convert import run_plan
from rumbrel.core.workflows.design_data import DataPlan, data_file
from rumbrel.core.workflows.design_disc import DesignPlan
from rumbrel.core.workflows.make_disc import write_plan
from rumbrel.web.batches.services import ledger_for, plan_for
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.registry import Ending
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Disc, Recorder
from .plan_layout import PlannedDisc, files_wish, plan_layout
from .tray import Tray, pace_of, set_blank_state, tray_of

__all__ = ["LASER_STEPS", "disc_folder", "image_name", "media_check", "settle_write", "start_write", "write_disc"]

LASER_STEPS = ("lead-in", "writing", "lead-out", "closing", "reading back")
"""From the first of these on the blank is no longer blank."""
_MOST_COPIES = 99
_SECONDS_BETWEEN_NOTES = 0.4


def disc_folder(disc: Disc) -> Path:
    """The folder of a disc's own, where its images lie."""
    return settings.RUMBREL.discs / str(disc.pk)


def image_name(disc: Disc) -> str:
    return re.sub(r"[^\w\- ]+", "_", disc.name).strip()[:80] or "disc"


def media_check(*, tray: Tray, medium: Medium, speed: int) -> str:
    """Why the disc in the tray cannot take the layout, and what to do; "" where it can."""
    blank = tray.blank
    if blank is None:
        return f"The tray is empty. Put in {medium.a_label}."
    try:
        blank.check_writable()
    except DiscError as error:
        return str(error)
    if blank.medium.capacity_sectors < medium.capacity_sectors:
        return f"The tray holds {blank.medium.a_label}, the disc is laid out for {medium.a_label}."
    speeds = tray.kind.speeds_for(blank.medium)
    if speed not in speeds:
        said = ", ".join(f"{each}x" for each in speeds)
        return f"This recorder writes the {blank.medium.label} at {said}, not at {speed}x. Choose another speed."
    return ""


def start_write(*, disc: Disc, trial: bool = False, copies: int = 1) -> Job:
    """Queue the write, or a test write. Raises DiscError when the layout may not be written, or the recorder cannot."""
    disc = Disc.objects.select_related("playlist").get(pk=disc.pk)
    planned = plan_layout(disc=disc)
    if planned.failed is not None:
        raise DiscError(f"The disc cannot be written: {planned.failed.text}.")
    if not 1 <= copies <= _MOST_COPIES:
        raise DiscError(f"From 1 to {_MOST_COPIES} copies can be written, not {copies}.")
    if trial and isinstance(planned.plan, DataPlan):
        raise DiscError(
            "A test write is for audio CDs. The files of this disc are made and checked before it is written."
        )
    medium = _medium(planned)
    with transaction.atomic():
        tray = tray_of(disc.recorder_key)
        if tray.writing is not None and tray.writing != disc:
            raise DiscError(f"The recorder is writing {tray.writing}. Wait for its end, or choose another recorder.")
        if trial and not tray.kind.tests:
            raise DiscError(f"The {tray.kind.label} cannot write with the laser off. Choose another recorder.")
        if refused := media_check(tray=tray, medium=medium, speed=planned.design.speed):
            raise DiscError(refused)
        word = "Test write of" if trial else "Write"
        job = start_job(kind="disc-write", subject=disc.pk, title=f"{word} disc {disc.pk}: {disc.name}")
        Disc.objects.filter(pk=disc.pk).update(
            job=job, trial=trial, stage={}, copies_left=0 if trial else copies, copies_made=0
        )
        Recorder.objects.filter(key=disc.recorder_key).update(open_asked=False)
    return job


def _medium(planned: PlannedDisc) -> Medium:
    return planned.plan.layout.medium if isinstance(planned.plan, DesignPlan) else planned.plan.medium


class _Stage:
    """Notes what the recorder is at, and hears whether the tray is to be opened."""

    def __init__(self, desk: Desk, disc: Disc) -> None:
        self._desk, self._disc = desk, disc
        self._note = Throttle(self._noted, every_seconds=_SECONDS_BETWEEN_NOTES)

    def told(self, progress: Progress) -> None:
        self._note(progress)
        self._desk.report(progress)

    def _noted(self, progress: Progress) -> None:
        stage: dict[str, Any] = {"step": progress.step, "share": round(progress.share, 4)}
        if progress.parts:
            stage |= {"track": progress.parts[0][0], "within": round(progress.parts[0][1], 3)}
        Disc.objects.filter(pk=self._disc.pk).update(stage=stage)
        if Recorder.objects.filter(key=self._disc.recorder_key, open_asked=True).exists():
            raise TrayOpened("The tray was opened during the write.")


def write_disc(desk: Desk, disc_id: int) -> str:
    """The work of a write. A stopped one leaves no image under the final name."""
    disc = Disc.objects.select_related("playlist").get(pk=disc_id)
    planned = plan_layout(disc=disc)
    if planned.failed is not None:
        # The list or the files changed while the write was waiting.
        raise DiscError(f"The disc cannot be written: {planned.failed.text}.")
    if disc.trial:
        return _try(disc, planned, _Stage(desk, disc))
    if isinstance(planned.plan, DataPlan):
        return _write_files(disc, planned, planned.plan, desk)
    return _write_sound(disc, planned, planned.plan, _Stage(desk, disc))


def _try(disc: Disc, planned: PlannedDisc, stage: _Stage) -> str:
    plan = planned.audio
    recorder = StandInRecorder(speed=planned.design.speed, pace=pace_of(disc.recorder_key))
    report = recorder.trial(plan.layout, stage.told, blank=tray_of(disc.recorder_key).blank)
    seconds = round(report.simulated_seconds)
    said = (
        f"The test write at {planned.design.speed}x went well: every source could be read to its end. A real recorder "
        f"takes {seconds // 60} min {seconds % 60} s for it. The blank is still blank."
    )
    Disc.objects.filter(pk=disc.pk).update(trial_said=said, error="")
    return said


def _write_sound(disc: Disc, planned: PlannedDisc, plan: DesignPlan, stage: _Stage) -> str:
    # The folder is this disc's own: what is replaced is its last image.
    written = write_plan(
        plan, disc_folder(disc), image_name(disc), speed=planned.design.speed, replaces=True, report=stage.told,
        blank=tray_of(disc.recorder_key).blank, packs=plan.packs, pace=pace_of(disc.recorder_key),
    )  # fmt: skip
    if written.image is None:
        raise DiscError(written.said)
    _forget_others(disc)
    verdicts = [{"number": v.number, "sectors": v.sectors, "equal": v.equal, "whole": True} for v in written.verdicts]
    limited = [each.said for each in written.image.limited]
    record = {**plan.layout.as_record(), "limited": limited}
    _settle(disc, planned, str(written.image.bin_path), record, verdicts, written.simulated_seconds)
    return " ".join([written.said, f"The image is in {disc_folder(disc)}.", *limited])


def _forget_others(disc: Disc) -> None:
    """Forms of an earlier image are not of this one."""
    for kind in ("wav", "flac"):
        shutil.rmtree(disc_folder(disc) / kind, ignore_errors=True)


def _settle(
    disc: Disc,
    planned: PlannedDisc,
    path: str,
    layout: Mapping[str, Any],
    verdicts: list[dict[str, Any]],
    seconds: float,
) -> None:
    with transaction.atomic():
        left = Disc.objects.select_for_update().get(pk=disc.pk)
        Disc.objects.filter(pk=disc.pk).update(
            state=Disc.State.WRITTEN, error="", image_path=path, written=layout, written_mark=planned.mark,
            verdicts=verdicts, simulated_seconds=seconds, copies_left=max(0, left.copies_left - 1),
            copies_made=left.copies_made + 1, stage={},
        )  # fmt: skip
        set_blank_state(recorder=disc.recorder_key, state=BlankState.WRITTEN, released=True)


def _write_files(disc: Disc, planned: PlannedDisc, plan: DataPlan, desk: Desk) -> str:
    """Files made and checked as a batch does it where the disc wants that, then written, then compared."""
    stage = _Stage(desk, disc)
    whole = Progress(done=0, total=1000, unit=Unit.SECTORS, step="making ready")
    paths = _paths(planned, plan, within(stage.told, whole, 0.0, 0.4))
    files = [data_file(row, paths[row.design.source_id]) for row in plan.rows if row.sectors]
    verdicts: list[FileVerdict] = []

    def proved(image: Path, names: Any) -> bool:
        verdicts.extend(read_back_data(image, names, report=within(stage.told, whole, 0.7, 1.0)))
        return all(verdict.equal for verdict in verdicts)

    stage.told(Progress(done=400, total=1000, unit=Unit.SECTORS, step="lead-in"))
    path = write_data_disc(
        files, disc_folder(disc), image_name(disc), medium=plan.medium, replaces=True, prove=proved,
        report=within(stage.told, whole, 0.4, 0.7),
    )  # fmt: skip
    if path is None:
        wrong = next(verdict for verdict in verdicts if not verdict.equal)
        raise DiscError(f"{wrong.name} does not read back as written, so the image was not kept. Write it again.")
    rows = [row for row in plan.rows if row.sectors]
    kept = [
        {"number": row.number, "name": verdict.name, "bytes": verdict.size_bytes, "equal": verdict.equal}
        for row, verdict in zip(rows, verdicts, strict=True)
    ]
    seconds = plan.medium.write_seconds(plan.total_sectors, planned.design.speed)
    _settle(disc, planned, str(path), {"files": [each["name"] for each in kept]}, kept, seconds)
    return f"{counted(len(kept), 'file')} identical, byte for byte; the image is {path}."


def _paths(planned: PlannedDisc, plan: DataPlan, report: Report) -> dict[int, str]:
    """Where each track's file is, made where the disc wants another one. Raises DiscError when one cannot be."""
    ids = [row.design.source_id for row in plan.rows if row.sectors]
    tracks = known_tracks(list(dict.fromkeys(ids)))
    if not planned.design.target_slug:
        return {track.pk: track.facts.path for track in tracks if track.facts}
    convert = plan_for(tracks, files_wish(planned.design))
    paths = {step.source_id: step.output for step in convert.steps}
    for event in run_plan(convert, jobs=default_jobs(), ledger=ledger_for):
        if isinstance(event, Progress):
            report(event)
        elif isinstance(event, Outcome) and not event.ok:
            raise DiscError(f"{Path(event.step.source.path).name} could not be made for the disc: {event.error}")
    return paths


def settle_write(disc_id: int, ending: Ending) -> None:
    """A write that was stopped or failed says so on its disc, and its blank is what it is by now."""
    if ending.state not in (Job.State.STOPPED, Job.State.FAILED):
        return
    disc = Disc.objects.get(pk=disc_id)
    spoiled = not disc.trial and disc.stage.get("step") in LASER_STEPS
    fate = "The blank is spoiled." if spoiled else "The blank is still blank."
    stopped = ending.state == Job.State.STOPPED
    text = f"Stopped. {fate} The layout is kept." if stopped else f"{ending.reason} {fate}"
    state = disc.state if disc.trial else Disc.State.STOPPED if stopped else Disc.State.FAILED
    Disc.objects.filter(pk=disc_id).update(state=state, error=text, trial_said="", copies_left=0)
    if spoiled:
        set_blank_state(recorder=disc.recorder_key, state=BlankState.SPOILED)
