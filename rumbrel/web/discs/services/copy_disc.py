"""Copy a disc as it is: read through a drive, written on a recorder, read back and held against each other."""

import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction

from rumbrel.core.bench.blanks import BlankState
from rumbrel.core.bench.drive import StandInDrive, drive_for, drive_with
from rumbrel.core.bench.image_disc import open_image
from rumbrel.core.bench.recorder import RECORDERS, TrayOpened
from rumbrel.core.disc.image import write_image
from rumbrel.core.errors import DiscError
from rumbrel.core.progress import Progress, Throttle, Unit, within
from rumbrel.core.workflows.copy_disc import SourceDisc, plan_copy, read_whole_disc, write_copy
from rumbrel.core.workflows.gather_disc import plan_sheet
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.registry import Ending
from rumbrel.web.jobs.services import Desk, start_job

from ..models import DiscCopy, Recorder
from .tray import Tray, pace_of, set_blank_state, tray_of
from .write_disc import LASER_STEPS

__all__ = ["carry_out_copy", "copy_folder", "settle_copy", "start_copy"]

_SECONDS_BETWEEN_NOTES = 0.4


def copy_folder(copy: DiscCopy) -> Path:
    return settings.RUMBREL.discs / f"copy-{copy.pk}"


def start_copy(*, label: str, sheet: Path, drive_key: str = "", condition: str = "clean") -> DiscCopy:
    """Queue it on the first recorder with a blank in it. Raises DiscError where there is none, or the disc is none."""
    tray = _ready_tray()
    assert tray.blank is not None
    speeds = tray.kind.speeds_for(tray.blank.medium)
    careful = tray.blank.medium.careful_speed
    with transaction.atomic():
        copy = DiscCopy.objects.create(
            label=label[:200], sheet=str(sheet), drive_key=drive_key, condition=condition, recorder_key=tray.kind.key,
            speed=careful if careful in speeds else speeds[0],
        )  # fmt: skip
        copy.job = start_job(kind="disc-copy", subject=copy.pk, title=f"Copy {label}")
        copy.save(update_fields=["job"])
        Recorder.objects.filter(key=tray.kind.key).update(open_asked=False)
    return copy


def _ready_tray() -> Tray:
    for kind in RECORDERS:
        tray = tray_of(kind.key)
        if tray.writing is None and tray.blank is not None and tray.blank.state is BlankState.BLANK:
            return tray
    raise DiscError("No recorder has a blank in it. Put one into a recorder on the bench, then copy.")


class _Told:
    """Notes what the recorder is at, and hears whether the tray is to be opened."""

    def __init__(self, desk: Desk, copy: DiscCopy) -> None:
        self._desk, self._copy = desk, copy
        self._note = Throttle(self._noted, every_seconds=_SECONDS_BETWEEN_NOTES)
        self._step = ""

    def told(self, progress: Progress) -> None:
        if progress.step != self._step:
            # From which step on the blank is no longer blank must be known whenever this ends.
            self._step = progress.step
            DiscCopy.objects.filter(pk=self._copy.pk).update(stage={"step": progress.step})
        self._note(progress)
        self._desk.report(progress)

    def _noted(self, progress: Progress) -> None:
        if Recorder.objects.filter(key=self._copy.recorder_key, open_asked=True).exists():
            raise TrayOpened("The tray was opened during the write.")


def carry_out_copy(desk: Desk, copy_id: int) -> str:
    """The work; returns what came of it. Nothing is written of a disc that could not be read alike throughout."""
    copy = DiscCopy.objects.get(pk=copy_id)
    told = _Told(desk, copy).told
    whole = Progress(done=0, total=1000, unit=Unit.SECTORS, step="reading")
    with tempfile.TemporaryDirectory(prefix="copy-", dir=_work_folder()) as folder:
        source = _read(copy, Path(folder), within(told, whole, 0.0, 0.5))
        report = write_copy(
            source, plan_copy(source, title=copy.label), copy_folder(copy), _name(copy), speed=copy.speed,
            blank=tray_of(copy.recorder_key).blank, report=within(told, whole, 0.5, 1.0), pace=pace_of(copy.recorder_key),
        )  # fmt: skip
    lines = [line.as_record() for line in report.lines if line.there or not line.same]
    read = [
        {"number": reading.number, "verdict": str(reading.verdict), "reread": len(reading.reread)}
        for reading in source.readings
    ]
    with transaction.atomic():
        DiscCopy.objects.filter(pk=copy.pk).update(
            lines=lines, read=read, image_path=str(report.image.bin_path), stage={},
            simulated_seconds=report.simulated_seconds,
        )  # fmt: skip
        set_blank_state(recorder=copy.recorder_key, state=BlankState.WRITTEN, released=True)
    if report.identical:
        return "The copy is identical to the disc."
    wrong = ", ".join(line["what"] for line in lines if not line["same"])
    raise DiscError(f"The copy differs from the disc: {wrong}. Copy it again at a lower speed.")


def _work_folder() -> str:
    settings.RUMBREL.reading.mkdir(parents=True, exist_ok=True)
    return str(settings.RUMBREL.reading)


def _name(copy: DiscCopy) -> str:
    return "".join(sign if sign.isalnum() or sign in "-_ " else "_" for sign in copy.label).strip()[:80] or "disc"


def _read(copy: DiscCopy, work: Path, report: Any) -> SourceDisc:
    """Through the drive; of files, the image that their sheet describes."""
    if copy.drive_key:
        kind = drive_with(drive_for(copy.drive_key), drive_for(copy.condition or "clean"))
        return read_whole_disc(StandInDrive(Path(copy.sheet), kind), work, report)
    plan = plan_sheet(Path(copy.sheet), title=copy.label)
    image = write_image(plan.layout, work, "disc", text=plan.text, report=report)
    return SourceDisc(sheet=image.cue_path, contents=open_image(image.cue_path).contents)


def settle_copy(copy_id: int, ending: Ending) -> None:
    """What became of the blank of a copy that was stopped or failed."""
    if ending.state not in (Job.State.STOPPED, Job.State.FAILED):
        return
    copy = DiscCopy.objects.filter(pk=copy_id).first()
    if copy is not None and copy.stage.get("step") in LASER_STEPS:
        set_blank_state(recorder=copy.recorder_key, state=BlankState.SPOILED)
