"""The stand-in recorder's tray: put a disc in, take it out, erase it, open it while it writes."""

import time
from collections.abc import Callable
from dataclasses import dataclass

from django.db import transaction

from rumbrel.core.bench.blanks import Blank, BlankState, ShelfBlank, shelf_blank
from rumbrel.core.bench.recorder import RecorderKind, recorder_for
from rumbrel.core.errors import DiscError
from rumbrel.web.jobs.models import Job

from ..models import Disc, DiscCopy, Recorder

__all__ = [
    "Tray",
    "ask_to_open",
    "choose_pace",
    "choose_recorder",
    "erase_disc",
    "pace_of",
    "put_in",
    "set_blank_state",
    "take_out",
    "tray_of",
    "writing_in",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Tray:
    """A recorder and the disc in it, None for an empty tray. writing is the disc that it writes now."""

    kind: RecorderKind
    shelf: ShelfBlank | None
    blank: Blank | None
    real_pace: bool
    writing: Disc | DiscCopy | None

    @property
    def said(self) -> str:
        """The state in words."""
        if self.writing is not None:
            return f"writing {self.writing}"
        if self.shelf is None or self.blank is None:
            return "empty"
        return f"{self.shelf.label}, {self.blank.state}"


def writing_in(key: str) -> Disc | DiscCopy | None:
    """The disc, or the copy of one, that a recorder is writing or is about to."""
    busy = {"recorder_key": key, "job__state__in": Job.ACTIVE}
    disc = Disc.objects.filter(**busy).select_related("job").first()
    return disc or DiscCopy.objects.filter(**busy).select_related("job").first()


def tray_of(key: str) -> Tray:
    """Raises DiscError for a recorder there is not."""
    kind = recorder_for(key)
    row = Recorder.objects.filter(key=key).first()
    shelf = shelf_blank(row.shelf_key) if row is not None and row.shelf_key else None
    blank = shelf.blank.after(BlankState(row.blank_state)) if shelf is not None and row is not None else None
    return Tray(
        kind=kind, shelf=shelf, blank=blank, real_pace=row is not None and row.real_pace, writing=writing_in(key)
    )


def _idle(key: str) -> Recorder:
    if (busy := writing_in(key)) is not None:
        raise DiscError(f"The recorder is writing {busy}. Wait for its end, or open the tray, which spoils the blank.")
    return Recorder.objects.select_for_update().get_or_create(key=recorder_for(key).key)[0]


def choose_recorder(*, disc_id: int, recorder: str) -> None:
    """Which recorder is to write a disc. Raises DiscError for one there is not, or while it is written."""
    kind = recorder_for(recorder)
    with transaction.atomic():
        disc = Disc.objects.select_related("job").select_for_update().get(pk=disc_id)
        if disc.busy and disc.recorder_key != kind.key:
            raise DiscError("The disc is being written. Wait for its end, then choose another recorder.")
        Disc.objects.filter(pk=disc_id).update(recorder_key=kind.key)


def choose_pace(*, recorder: str, real: bool) -> None:
    """Whether a recorder takes as long as a real one. Raises DiscError while it writes."""
    with transaction.atomic():
        row = _idle(recorder)
        row.real_pace = real
        row.save(update_fields=["real_pace"])


def pace_of(key: str) -> Callable[[float], None] | None:
    """How a recorder waits; None for one that is as quick as the disk."""
    return time.sleep if tray_of(key).real_pace else None


def put_in(*, recorder: str, shelf_key: str) -> None:
    """A disc from the shelf into the tray, in place of the one that lies there. Raises DiscError while it writes."""
    with transaction.atomic():
        row = _idle(recorder)
        row.shelf_key, row.blank_state = shelf_key, str(shelf_blank(shelf_key).blank.state)
        row.open_asked = False
        row.save()


def take_out(*, recorder: str) -> None:
    """Raises DiscError while it writes."""
    with transaction.atomic():
        row = _idle(recorder)
        row.shelf_key, row.blank_state, row.open_asked = "", "", False
        row.save()


def erase_disc(*, recorder: str) -> None:
    """Make a rewritable disc blank again. Raises DiscError for another one, or an empty tray."""
    with transaction.atomic():
        row, tray = _idle(recorder), tray_of(recorder)
        if tray.blank is None:
            raise DiscError("The tray is empty. Put a rewritable disc in first.")
        row.blank_state = str(tray.blank.erased().state)
        row.save(update_fields=["blank_state"])


def ask_to_open(*, recorder: str) -> None:
    """Open the tray in the middle of a write: the blank is spoiled. Raises DiscError when nothing is written."""
    if writing_in(recorder) is None:
        raise DiscError("The recorder does not write now. Take the disc out.")
    Recorder.objects.filter(key=recorder).update(open_asked=True)


def set_blank_state(*, recorder: str, state: BlankState, released: bool = False) -> None:
    """What became of the disc in the tray; a finished one is released: the tray is empty then."""
    row = Recorder.objects.filter(key=recorder)
    if released:
        row.update(shelf_key="", blank_state="", open_asked=False)
    else:
        row.update(blank_state=str(state), open_asked=False)
