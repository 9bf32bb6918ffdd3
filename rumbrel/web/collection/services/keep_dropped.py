"""Files dropped on a page: kept under their names and scanned."""

import os
from collections.abc import Sequence
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.errors import OutputError
from rumbrel.core.files import output_errors

from .add_folder import add_folder

__all__ = ["keep_dropped"]

_LONGEST_NAME_BYTES = 200


def keep_dropped(*, files: Sequence[UploadedFile]) -> int:
    """Keep each file below the folder of dropped files. Names lose any path; a taken name is numbered.

    Raises OutputError where there is no room; what came before stays.
    """
    folder = settings.RUMBREL.dropped
    with output_errors(folder):
        folder.mkdir(parents=True, exist_ok=True)
    try:
        for file in files:
            _keep(file, folder)
    finally:
        add_folder(path=str(folder))
    return len(files)


def _keep(file: UploadedFile, folder: Path) -> None:
    wanted = Path(Path(file.name or "sound").name.lstrip(".") or "sound")
    stem = wanted.stem.encode()[:_LONGEST_NAME_BYTES].decode("utf-8", "ignore")
    with output_errors(folder):
        path, handle = _claimed(folder, stem, wanted.suffix[:16])
        working = path.with_name(f".{path.name}.part")
        try:
            with working.open("wb") as target:
                for chunk in file.chunks():
                    target.write(chunk)
            working.replace(path)
        except OSError:
            path.unlink(missing_ok=True)
            raise
        finally:
            os.close(handle)
            working.unlink(missing_ok=True)


def _claimed(folder: Path, stem: str, suffix: str) -> tuple[Path, int]:
    """A name nobody else has: two uploads of one name at once get two names."""
    for number in range(1, 100_000):
        path = folder / (f"{stem}{suffix}" if number == 1 else f"{stem} ({number}){suffix}")
        try:
            return path, os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o644)
        except FileExistsError:
            continue
    raise OutputError(f"There are too many files named {stem}{suffix} already. Give it another name.")
