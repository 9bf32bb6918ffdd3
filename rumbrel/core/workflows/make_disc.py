"""Write a disc that was planned, and read it back; and the files of a data disc."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Protocol

from rumbrel.core.bench.blanks import Blank
from rumbrel.core.bench.recorder import RecorderReport, StandInRecorder
from rumbrel.core.disc.checklist import Finding
from rumbrel.core.disc.data_disc import DataFile, album_folders
from rumbrel.core.disc.image import check_untouched, image_paths
from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.disc.text import DiscText
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import inspect_file, read_confirmed_list
from rumbrel.core.playlists import LIST_SUFFIXES
from rumbrel.core.progress import Report, no_report

__all__ = ["data_files", "free_name", "write_plan"]


class Writable(Protocol):
    """A disc that was laid out and judged."""

    @property
    def layout(self) -> DiscLayout: ...
    @property
    def text(self) -> DiscText: ...
    @property
    def failed(self) -> Finding | None: ...


def write_plan(
    plan: Writable,
    folder: Path,
    name: str,
    *,
    speed: int,
    image_format: str = "bin",
    replaces: bool = False,
    untouched: Sequence[Path] = (),
    blank: Blank | None = None,
    report: Report = no_report,
    packs: bytes | None = None,
    pace: Callable[[float], None] | None = None,
) -> RecorderReport:
    """Write on the stand-in recorder and read back. packs are those of a disc that is copied (b"" for none), in place of
    what its texts would be coded as. pace waits so many seconds, where the recorder is to take as long as a real one. Raises DiscError when the plan may not be written, or when
    the image would take the name of something in untouched, and ImagePresent where one is there already."""
    if plan.failed is not None:
        raise DiscError(f"The disc cannot be written: {plan.failed.text}.")
    check_untouched(image_paths(folder, name, image_format), untouched)
    recorder = StandInRecorder(speed=speed, pace=pace)
    return recorder.write(
        plan.layout,
        folder,
        name,
        report,
        text=plan.text,
        image_format=image_format,
        replaces=replaces,
        blank=blank,
        packs=packs,
    )


def free_name(folder: Path, name: str, image_format: str) -> str:
    """The name, or with a number where an image of that name is there."""
    numbered, number = name, 1
    while any(path.exists() for path in image_paths(folder, numbered, image_format)):
        number += 1
        numbered = f"{name} ({number})"
    return numbered


def data_files(sources: Sequence[Path], *, numbered: bool = False) -> list[DataFile]:
    """Files of lists and folders for a data disc, a folder on it for each album or list. numbered puts them all into one
    with their numbers before their names: players of files walk them by name."""
    files: list[DataFile] = []
    albums: list[tuple[Path, str, str]] = []
    for source in sources:
        if source.suffix.lower() in LIST_SUFFIXES:
            files += [
                DataFile(path=e.path, folder=source.stem, name=e.path.name) for e in read_confirmed_list(source).entries
            ]
            continue
        for each in gather_sources([source]):
            if each.path.suffix.lower() in SOUND_SUFFIXES:
                tags = inspect_file(each.path).tags
                performer = tags.first("album_artist") or tags.first("artist")
                albums.append((each.path, tags.first("album") or each.path.parent.name, performer))
                files.append(DataFile(path=each.path, folder="", name=each.path.name))
    if not files:
        raise DiscError("There are no sound files to put on the disc.")
    folders = dict(
        zip((path for path, _, _ in albums), album_folders([(album, who) for _, album, who in albums]), strict=True)
    )
    if numbered:
        return [replace(file, folder="", name=f"{number:03d} {file.name}") for number, file in enumerate(files, 1)]
    return [replace(file, folder=file.folder or folders.get(file.path, "")) for file in files]
