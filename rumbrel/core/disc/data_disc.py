"""Data discs for players that read files: ISO 9660 with Joliet, a folder for each album, and lists."""

import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import Any

import pycdlib
import pycdlib.pycdlibexception

from rumbrel.core.errors import DiscError, ImagePresent
from rumbrel.core.files import move_into_place, output_errors, working_file
from rumbrel.core.places import file_system_for, fitted_name
from rumbrel.core.playlists.encoding import western_text
from rumbrel.core.progress import Progress, Report, Unit, no_report

from .image import check_untouched
from .media import Medium

__all__ = ["DataFile", "album_folders", "FileVerdict", "data_sectors", "read_back_data", "write_data_disc"]

_SECTOR_BYTES = 2048


@dataclass(frozen=True, slots=True, kw_only=True)
class DataFile:
    """A file for a data disc and the names of the folders and of itself that it should have."""

    path: Path
    folder: str
    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class FileVerdict:
    """Whether a file reads back from the disc byte for byte; name is the one it has there."""

    name: str
    size_bytes: int
    equal: bool


_HEAD_SECTORS = 32
"""The system area, the descriptors, the path tables and the two root folders (ECMA-119, 6.2 and 8; Joliet)."""
_NAME_BYTES = 128 + 34 + 46
"""What a file's two entries take at most: a Joliet name of 64 characters, a short name, and what stands around them."""


def data_sectors(files: Sequence[tuple[str, int]]) -> int:
    """Sectors of 2,048 bytes that a disc of files, each its folder and its bytes, takes, rounded up where its tables
    are concerned."""
    folders = {folder for folder, _ in files if folder}
    names = -(-(len(files) + 2 * len(folders) + 1) * _NAME_BYTES // _SECTOR_BYTES)
    lists = -(-len(files) * _NAME_BYTES // _SECTOR_BYTES) + 1 + len(folders)
    return (
        _HEAD_SECTORS + 4 * len(folders) + 2 * names + 2 * lists + sum(-(-size // _SECTOR_BYTES) for _, size in files)
    )


def album_folders(albums: Sequence[tuple[str, str]]) -> list[str]:
    """A folder for each file of an album and its performer: called as the album, or with the performer before it where
    several have one of that title."""
    performers: dict[str, set[str]] = {}
    for album, performer in albums:
        performers.setdefault(album.casefold(), set()).add(performer)
    return [
        f"{performer} - {album}" if album and performer and len(performers[album.casefold()]) > 1 else album
        for album, performer in albums
    ]


class _Iso(pycdlib.PyCdlib):
    """The library counts a Joliet name's bytes in UTF-8, where the standard counts its characters of UCS-2: 64 of them,
    whatever they are (Joliet, from memory)."""

    def _joliet_name_and_parent_from_path(self, joliet_path: bytes) -> tuple[bytes, Any]:
        folder, _, name = joliet_path.rpartition(b"/")
        coded = name.decode("utf-8").encode("utf-16_be")
        if not name or len(coded) // 2 > file_system_for("joliet").longest_name:
            raise pycdlib.pycdlibexception.PyCdlibInvalidInput("Joliet names can be a maximum of 64 characters")
        return coded, self._find_joliet_record(folder or b"/")


class _Names:
    """Joliet names as wished, and ISO 9660 names of eight and three characters beside them, without clashes."""

    def __init__(self) -> None:
        self._taken: set[str] = set()
        self._joliet = file_system_for("joliet")

    def joliet(self, folder: str, stem: str, suffix: str) -> str:
        number, name = 1, fitted_name(stem, suffix, self._joliet)
        while f"{folder}/{name}".casefold() in self._taken:
            number += 1
            name = fitted_name(stem, suffix, self._joliet, mark=f" ({number})")
        self._taken.add(f"{folder}/{name}".casefold())
        return name

    def plain(self, folder: str, stem: str, suffix: str) -> str:
        """Level 1 of ISO 9660: capital letters, digits and underscores."""
        letters = "".join(sign if sign.isascii() and sign.isalnum() else "_" for sign in stem.upper())
        ending = "".join(sign for sign in suffix.upper() if sign.isascii() and sign.isalnum())[:3]
        number = 1
        while True:
            mark = "" if number == 1 else str(number)
            name = (letters[: 8 - len(mark)] or "_") + mark + (f".{ending}" if ending else "")
            if f"plain:{folder}/{name}" not in self._taken:
                self._taken.add(f"plain:{folder}/{name}")
                return name
            number += 1


def write_data_disc(
    files: Sequence[DataFile],
    folder: Path,
    name: str,
    *,
    medium: Medium,
    replaces: bool = False,
    report: Report = no_report,
    prove: Callable[[Path, Sequence[tuple[str, Path]]], bool] = lambda path, names: True,
) -> Path | None:
    """Write NAME.iso with its files in the order given and a list for each folder and for all.

    prove is shown the image, with the name that each file has on it, before the image has its own, and says whether
    it may have it: None where it may not. Raises DiscError when it does not fit or a file is missing, OutputError for
    the destination.
    """
    total = sum(-(-_size(file.path) // _SECTOR_BYTES) * _SECTOR_BYTES for file in files)
    if total > medium.data_bytes:
        raise DiscError(
            f"The files take {total:,} bytes, the {medium.label} holds {medium.data_bytes:,}. Leave some out."
        )
    iso = _Iso()
    result = folder / f"{name}.iso"
    check_untouched([result], [file.path for file in files])
    if result.exists() and not replaces:
        raise ImagePresent(
            f"{result.name} is in {folder} already and is kept. Choose another name, or have it replaced."
        )
    try:
        with working_file(result) as working, output_errors(folder):
            iso.new(interchange_level=1, joliet=3, vol_ident=_volume_name(name))
            names = _add_files(iso, files)
            iso.write(str(working), progress_cb=_told(report))
            iso.close()
            if working.stat().st_size > medium.data_bytes:
                raise DiscError(
                    f"With its folders and lists the disc is too full for the {medium.label}. Leave a file out."
                )
            if not prove(working, names):
                return None
            move_into_place(working, result, replaces=replaces)
    except pycdlib.pycdlibexception.PyCdlibException as error:
        raise DiscError(f"The data disc cannot be made: {error}.") from error
    return result


def read_back_data(
    image: Path, names: Sequence[tuple[str, Path]], *, report: Report = no_report
) -> tuple[FileVerdict, ...]:
    """Read every file through the disc's own tables and compare it with its source. Raises DiscError."""
    iso, verdicts = pycdlib.PyCdlib(), []
    total, done = sum(_size(path) for _, path in names), 0
    try:
        iso.open(str(image))
        for name, path in names:
            size = _size(path)
            with iso.open_file_from_iso(joliet_path=f"/{name}") as there, path.open("rb") as source:
                equal = True
                while equal and (piece := source.read(_READ_BYTES)):
                    equal = there.read(len(piece)) == piece
                    done += len(piece)
                    report(Progress(done=done, total=total, unit=Unit.BYTES, step="reading back"))
                equal = equal and not there.read(1)
            verdicts.append(FileVerdict(name=name, size_bytes=size, equal=equal))
        iso.close()
    except (pycdlib.pycdlibexception.PyCdlibException, OSError) as error:
        raise DiscError(f"The data disc cannot be read back: {error}.") from error
    return tuple(verdicts)


_READ_BYTES = 1 << 18


def _told(report: Report) -> Callable[[int, int, object], None]:
    return lambda done, whole, opaque: report(Progress(done=done, total=whole, unit=Unit.BYTES, step="writing"))


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError as error:
        raise DiscError(f"{path} is not there. Connect its disk or leave it out.") from error


def _volume_name(name: str) -> str:
    letters = "".join(sign if sign.isascii() and sign.isalnum() else "_" for sign in name.upper())
    return letters[:16] or "DISC"


def _add_files(iso: pycdlib.PyCdlib, files: Sequence[DataFile]) -> list[tuple[str, Path]]:
    """Returns the name that each file has on the disc, with its source."""
    given: list[tuple[str, Path]] = []
    names = _Names()
    folders: dict[str, tuple[str, str]] = {"": ("", "")}
    lists: dict[str, list[str]] = {}
    for file in files:
        if file.folder not in folders:
            plain, joliet = names.plain("", file.folder, ""), names.joliet("", file.folder, "")
            iso.add_directory(f"/{plain}", joliet_path=f"/{joliet}")
            folders[file.folder] = plain, joliet
        plain_folder, joliet_folder = folders[file.folder]
        wanted = PurePosixPath(file.name)
        plain = names.plain(plain_folder, wanted.stem, wanted.suffix)
        joliet = names.joliet(joliet_folder, wanted.stem, wanted.suffix)
        dot = "" if "." in plain else "."
        iso.add_file(
            str(file.path), f"{f'/{plain_folder}' if plain_folder else ''}/{plain}{dot};1",
            joliet_path=f"{f'/{joliet_folder}' if joliet_folder else ''}/{joliet}",
        )  # fmt: skip
        whole = f"{joliet_folder}/{joliet}" if joliet_folder else joliet
        given.append((whole, file.path))
        lists.setdefault("", []).append(whole)
        if joliet_folder:
            lists.setdefault(file.folder, []).append(joliet)
    for list_folder, lines in lists.items():
        _add_list(iso, names, folders[list_folder], lines)
    return given


def _add_list(iso: pycdlib.PyCdlib, names: _Names, folder: tuple[str, str], lines: list[str]) -> None:
    """An M3U beside the files it names, M3U8 where its code page lacks a sign; its paths are those of the Joliet names."""
    words = "#EXTM3U\n" + "\n".join(lines) + "\n"
    western = western_text(words)
    text, suffix = (words.encode("utf-8"), ".m3u8") if western is None else (western, ".m3u")
    plain, joliet = names.plain(folder[0], "PLAY", ".M3U"), names.joliet(folder[1], "Play all", suffix)
    iso.add_fp(
        io.BytesIO(text), len(text), f"{f'/{folder[0]}' if folder[0] else ''}/{plain};1",
        joliet_path=f"{f'/{folder[1]}' if folder[1] else ''}/{joliet}",
    )  # fmt: skip
