"""Files dropped on a page: kept in their folders under their names, and scanned."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.files import content_mark, file_digest, move_into_place, output_errors, working_file

from ..models import SourceFolder, Track
from .add_folder import add_folder

__all__ = ["DropRefused", "Kept", "keep_dropped", "keep_dropped_file", "scan_dropped"]

_LONGEST_NAME_BYTES = 200
_MOST_FOLDERS = 24
_MOST_OF_A_NAME = 10_000
_PIECE_BYTES = 1 << 20


class DropRefused(RumbrelError):
    """A dropped file that did not come as it was announced."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Kept:
    """Where a dropped file is; known says that it was there already."""

    path: Path
    known: bool


def keep_dropped(*, files: Sequence[UploadedFile]) -> list[Kept]:
    """Keep each file of a form below the folder of dropped files. Names lose any path; a taken name is numbered.

    Raises OutputError where there is no room; what came before stays.
    """
    try:
        return [_keep(Path(file.name or "sound").name, file.chunks()) for file in files]
    finally:
        scan_dropped()


def keep_dropped_file(*, name: str, size_bytes: int, read: Callable[[int], bytes]) -> Kept:
    """Keep one file, in the folders that its name says, as it streams in.

    Raises DropRefused where it ends too early, and OutputError where there is no room; then nothing of it is left.
    """
    return _keep(name, _announced(read, size_bytes))


def scan_dropped() -> SourceFolder:
    """Have the dropped files read."""
    folder = settings.RUMBREL.dropped
    with output_errors(folder):
        folder.mkdir(parents=True, exist_ok=True)
    return add_folder(path=str(folder))


def _announced(read: Callable[[int], bytes], size_bytes: int) -> Iterator[bytes]:
    left = size_bytes
    while left:
        try:
            piece = read(min(left, _PIECE_BYTES))
        except OSError as error:
            raise DropRefused("The connection broke off. Nothing of the file was kept.") from error
        if not piece:
            raise DropRefused(f"The file ended {left:,} bytes too early. Nothing of it was kept.")
        left -= len(piece)
        yield piece


def _keep(name: str, pieces: Iterator[bytes]) -> Kept:
    home = settings.RUMBREL.dropped
    output = home.joinpath(*_parts(name))
    if not output.parent.resolve().is_relative_to(home.resolve()):
        raise DropRefused(f"{output.parent} leads out of the folder of dropped files. Drop it under another name.")
    # Another drop of this name at the same time is waited for.
    with working_file(output) as working:
        with output_errors(output.parent), working.open("wb") as file:
            for piece in pieces:
                file.write(piece)
        path, taken = _free(output)
        same = _same_content(working, taken)
        if same is not None:
            return Kept(path=same, known=True)
        move_into_place(working, path, replaces=False)
    return Kept(path=path, known=False)


def _parts(name: str) -> list[str]:
    """The folders and the name, none of which leads anywhere else."""
    parts = [_plain(part) for part in name.replace("\\", "/").split("/")]
    parts = [part for part in parts if part][-_MOST_FOLDERS:]
    return parts or ["sound"]


def _plain(part: str) -> str:
    text = "".join(sign for sign in part if sign.isprintable()).strip().lstrip(".")
    path = Path(text or "")
    stem = path.stem.encode("utf-8", "replace")[:_LONGEST_NAME_BYTES].decode("utf-8", "ignore")
    return f"{stem}{path.suffix[:16]}"


def _same_content(working: Path, taken: Sequence[Path]) -> Path | None:
    """A file that is the same byte for byte: of those that have the name, or anywhere in the collection."""
    size = working.stat().st_size
    if not size:
        return None
    mark = content_mark(working, size)
    known = Track.objects.filter(content_mark=mark, size_bytes=size, missing_since=None).values_list("path", flat=True)
    digest = None
    for path in (*taken, *map(Path, known[:5])):
        try:
            if path.is_file() and path.stat().st_size == size:
                digest = digest or file_digest(working)
                if file_digest(path) == digest:
                    return path
        except (OSError, RumbrelError):
            # What cannot be compared is not the same.
            continue
    return None


def _free(output: Path) -> tuple[Path, list[Path]]:
    """The name itself or the first number behind it that nobody has, and the files that have those before."""
    taken: list[Path] = []
    for number in range(1, _MOST_OF_A_NAME):
        path = output if number == 1 else output.with_name(f"{output.stem} ({number}){output.suffix}")
        if not path.exists():
            return path, taken
        taken.append(path)
    raise OutputError(f"There are too many files named {output.name} already. Give it another name.")
