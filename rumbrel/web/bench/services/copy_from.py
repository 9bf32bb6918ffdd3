"""Copy the disc in a drive, or one that was taken in."""

import json
from pathlib import Path

from rumbrel.core.errors import DiscError
from rumbrel.web.discs.models import DiscCopy
from rumbrel.web.discs.services import start_copy

from ..models import Drive, TakeIn
from .shelf import shelf_disc

__all__ = ["copy_disc_in", "copy_taken"]


def copy_disc_in(*, drive: str) -> DiscCopy:
    """Raises DiscError for an empty drive, one that reads, and where no recorder has a blank."""
    row = Drive.objects.filter(key=drive).exclude(disc_key="").first()
    if row is None:
        raise DiscError("There is no disc in that drive. Put one in, then copy.")
    taken = TakeIn.objects.filter(drive_key=drive, in_drive=True).select_related("job").first()
    if taken is not None and taken.busy:
        raise DiscError(f"The drive is reading {taken}. Wait for its end, or stop it, then copy.")
    disc = shelf_disc(row.disc_key)
    disc.open()
    return start_copy(
        label=str(taken or disc.label), sheet=disc.path, drive_key=drive, condition=disc.condition
    )  # fmt: skip


def copy_taken(*, taken: TakeIn) -> DiscCopy:
    """Raises DiscError where not all of it was taken in, or its sheet is gone."""
    if taken.busy:
        raise DiscError(f"{taken} is being taken in. Wait for its end, then copy.")
    sheet = _sheet_of(taken)
    whole = {str(track["number"]) for track in taken.contents["tracks"]} <= taken.results.keys()
    if sheet is None or not whole:
        raise DiscError(
            "Not all of its tracks were taken in without loss. Put the disc into a drive, and copy it there."
        )
    if taken.deemphasis:
        raise DiscError(
            "Its pre-emphasis was taken out, so this is another disc. Put the disc into a drive, and copy it there."
        )
    return start_copy(label=str(taken), sheet=sheet)


def _sheet_of(taken: TakeIn) -> Path | None:
    """The sheet that this very taking in left beside its files."""
    folder = Path(taken.folder) if taken.folder else None
    for log in sorted(folder.glob("*.log.json")) if folder is not None and folder.is_dir() else ():
        try:
            said = json.loads(log.read_text(encoding="utf-8")).get("taken_in")
        except (OSError, ValueError, AttributeError):
            continue
        sheet = log.with_name(log.name.removesuffix(".log.json") + ".cue")
        if said == f"take-in {taken.pk}" and sheet.is_file():
            return sheet
    return None
