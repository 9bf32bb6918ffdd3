"""The discs that can be put into a stand-in drive: the demo's, those that were written here, and images of one's own."""

import json
import re
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.bench.image_disc import ImageDisc, open_image
from rumbrel.core.disc.cue_sheet import read_cue_file
from rumbrel.core.disc.image import write_image
from rumbrel.core.errors import Cancelled, DiscError, OutputError, RumbrelError
from rumbrel.core.files import output_errors, working_folder
from rumbrel.core.workflows.gather_disc import plan_sheet
from rumbrel.web.discs.queries import copies, written_discs
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job

from ..models import IncomingImage

__all__ = ["ShelfDisc", "discs_on_shelf", "drop_image", "shelf_disc", "shelve_image"]

_LARGEST_BYTES = 1_000_000_000
_IMAGE_SUFFIXES = (".cue", ".bin", ".wav", ".flac", ".aiff", ".aif", ".cdt", ".iso", ".digests", ".sub")


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfDisc:
    """A disc; condition is the key of what reading it is like (see core's drives)."""

    key: str
    label: str
    path: Path
    condition: str = "clean"

    def open(self) -> ImageDisc:
        """Raises DiscError for what no drive shows tracks of."""
        if self.path.suffix.lower() == ".iso":
            raise DiscError(
                "This is a data disc: it has no audio tracks to take in. Its files can be added as a folder."
            )
        return open_image(self.path)


def discs_on_shelf() -> list[ShelfDisc]:
    """The demo's first, then what was written here, one's own images, and those to practise with."""
    shelf = settings.RUMBREL.shelf
    return [*_kept_in(shelf / "demo"), *_written(), *_kept_in(shelf / "own"), *_kept_in(shelf / "practice")]


def _kept_in(folder: Path) -> list[ShelfDisc]:
    try:
        said = json.loads((folder / "discs.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        said = {}
    found = []
    for path in sorted(folder.glob("*/*")) if folder.is_dir() else ():
        if path.suffix.lower() in (".cue", ".iso") and not path.is_symlink():
            about = said.get(path.parent.name, {})
            found.append(
                ShelfDisc(
                    key=f"{folder.name}:{path.parent.name}", label=str(about.get("label", path.stem)), path=path,
                    condition=str(about.get("condition", "clean")),
                )
            )  # fmt: skip
    return found


def _written() -> list[ShelfDisc]:
    found = []
    for disc in written_discs()[:50]:
        path = Path(disc.image_path)
        sheet = path if path.suffix == ".iso" else path.with_suffix(".cue")
        if sheet.is_file():
            found.append(ShelfDisc(key=f"disc:{disc.pk}", label=f"{disc}, written here", path=sheet))
    for copy in copies().exclude(image_path="")[:50]:
        sheet = Path(copy.image_path).with_suffix(".cue")
        if sheet.is_file():
            found.append(ShelfDisc(key=f"copy:{copy.pk}", label=f"{copy.label}, copied here", path=sheet))
    return found


def shelf_disc(key: str) -> ShelfDisc:
    """The disc of a key. Raises DiscError when it is no longer there."""
    for disc in discs_on_shelf():
        if disc.key == key:
            return disc
    raise DiscError("That disc is no longer on the shelf. Choose another one.")


def drop_image(*, files: Sequence[UploadedFile]) -> ShelfDisc | Job:
    """Keep an image of the user's own: a cue sheet and the files that it names, or an ISO. One in a single BIN lies on the
    shelf at once; any other is made into that first, by a job. Raises DiscError for what is none, OutputError where
    there is no room; then nothing of it is left."""
    named = {Path(file.name or "").name: file for file in files}
    heads = [name for name in named if Path(name).suffix.lower() in (".cue", ".iso")]
    if len(heads) != 1:
        raise DiscError("Choose one cue sheet together with the files that it names, or one ISO.")
    if any(Path(name).suffix.lower() not in _IMAGE_SUFFIXES for name in named):
        raise DiscError(f"An image is made of files that end in {', '.join(_IMAGE_SUFFIXES)}.")
    if sum(file.size or 0 for file in files) > _LARGEST_BYTES:
        raise DiscError("That is more than a disc holds.")
    own, incoming = settings.RUMBREL.shelf / "own", settings.RUMBREL.shelf / "incoming"
    for folder in (own, incoming):
        folder.mkdir(parents=True, exist_ok=True)
    stem = re.sub(r"[^\w\- ]+", "_", Path(heads[0]).stem).strip()[:80] or "disc"
    number, name = 1, stem
    while (own / name).exists() or (incoming / name).exists():
        number += 1
        name = f"{stem} {number}"
    with output_errors(own), working_folder(own / name) as work:
        for each, file in named.items():
            with (work / each).open("wb") as out:
                for chunk in file.chunks():
                    out.write(chunk)
        sheet = work / heads[0]
        _put_in_folders(sheet)
        if sheet.suffix.lower() != ".iso" and not _is_one_bin(sheet):
            work.rename(incoming / name)
            row = IncomingImage.objects.create(name=name, sheet=str(incoming / name / heads[0]))
            return start_job(kind="shelve", subject=row.pk, title=f"Make {name} ready for a drive")
        disc = ShelfDisc(key=f"own:{name}", label=name, path=sheet)
        if sheet.suffix.lower() != ".iso":
            disc.open()
        work.rename(own / name)
    if not (own / name).is_dir():
        raise OutputError(f"The image could not be kept in {own}.")
    return ShelfDisc(key=disc.key, label=name, path=own / name / heads[0])


def _put_in_folders(sheet: Path) -> None:
    """Files come without their folders: put each where the sheet names it. Raises DiscError for a sheet that cannot be
    read."""
    names = {track.file.name for track in read_cue_file(sheet).tracks} if sheet.suffix.lower() == ".cue" else ()
    for name in names:
        there, alone = sheet.parent / name, sheet.parent / Path(name).name
        if not there.exists() and alone.is_file():
            there.parent.mkdir(parents=True, exist_ok=True)
            alone.rename(there)


def _is_one_bin(sheet: Path) -> bool:
    """Raises DiscError for a sheet that cannot be read."""
    files = {(track.file.name, track.file.kind) for track in read_cue_file(sheet).tracks}
    return len(files) == 1 and files.pop()[1] == "BINARY"


def shelve_image(desk: Desk, pk: int) -> str:
    """Write the very disc that a sheet describes as one BIN onto the shelf; returns what came of it. The files that it
    was made of go then, also where it cannot be made."""
    row = IncomingImage.objects.get(pk=pk)
    sheet = Path(row.sheet)
    try:
        plan = plan_sheet(sheet, title=row.name)
        write_image(
            plan.layout, settings.RUMBREL.shelf / "own" / row.name, row.name, text=plan.text, report=desk.report
        )
    except Cancelled:
        raise
    except RumbrelError:
        shutil.rmtree(sheet.parent, ignore_errors=True)
        raise
    shutil.rmtree(sheet.parent, ignore_errors=True)
    return f"{row.name} lies on the shelf now. Put it into a drive."
