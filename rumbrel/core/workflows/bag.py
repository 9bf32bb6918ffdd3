"""A set of files handed over as a bag (RFC 8493, The BagIt File Packaging Format): payload, checksums, description."""

import datetime
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path, PurePosixPath

from rumbrel.core.errors import CheckFailed, OutputError
from rumbrel.core.files import copy_compared, output_errors, settle_folder, sha256_of, working_folder

__all__ = ["Bag", "BagFile", "make_bag", "unescaped"]

_LONGEST_LINE = 79


@dataclass(frozen=True, slots=True, kw_only=True)
class BagFile:
    """A file of the payload: name is its path in the bag, with strokes, and sha256 what it is to be, "" where that is
    not known."""

    path: Path
    name: str
    sha256: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Bag:
    """A finished bag: its folder, and how many files and bytes its payload has."""

    path: Path
    files: int
    size_bytes: int


def make_bag(
    files: Sequence[BagFile], folder: Path, *, description: str = "", report: Callable[[int], None] = lambda done: None
) -> Bag:
    """Copy files into a new bag, each compared with its source and with its checksum; the bag appears whole or not at
    all. report takes the bytes done. Raises OutputError where the folder is there already, a name cannot stand in a bag,
    or it cannot be written; DecodeError for a source; CheckFailed where a file is not what it is to be."""
    if folder.exists():
        raise OutputError(f"Not written: {folder.name} is there already. Choose another name.")
    _check_names(files)
    done, lines = 0, []
    with working_folder(folder) as work, output_errors(folder.parent):
        for file in files:
            copy = work / "data" / file.name
            copy.parent.mkdir(parents=True, exist_ok=True)
            _, size = copy_compared(file.path, copy, report=partial(_report_behind, report, done))
            done += size
            sha256 = sha256_of(copy)
            if file.sha256 and sha256 != file.sha256:
                raise CheckFailed(
                    f"{file.name} is not what was kept of it. Compare its folder, then make the bag again."
                )
            lines.append(f"{sha256}  data/{_escaped(file.name)}")
        _write(work / "manifest-sha256.txt", lines)
        _write(work / "bagit.txt", ["BagIt-Version: 1.0", "Tag-File-Character-Encoding: UTF-8"])
        _write(work / "bag-info.txt", _info(description, done, len(files)))
        tags = ("bag-info.txt", "bagit.txt", "manifest-sha256.txt")
        _write(work / "tagmanifest-sha256.txt", [f"{sha256_of(work / name)}  {name}" for name in tags])
        settle_folder(work)
        work.rename(folder)
    return Bag(path=folder, files=len(files), size_bytes=done)


def _report_behind(report: Callable[[int], None], before: int, done: int) -> None:
    report(before + done)


def _check_names(files: Sequence[BagFile]) -> None:
    if not files:
        raise OutputError("Not written: there is no file to be put into a bag.")
    seen: set[str] = set()
    for file in files:
        parts = PurePosixPath(file.name).parts
        try:
            file.name.encode()
        except UnicodeEncodeError as error:
            raise OutputError(f"Not written: the name {file.name!r} is not UTF-8. Rename the file first.") from error
        if not parts or parts[0] == "/" or ".." in parts:
            raise OutputError(f"Not written: {file.name} would lie outside the bag.")
        if file.name in seen:
            raise OutputError(f"Not written: {file.name} would be in the bag twice.")
        seen.add(file.name)


def _escaped(name: str) -> str:
    """As a manifest holds it (2.1.3)."""
    return name.replace("%", "%25").replace("\r", "%0D").replace("\n", "%0A")


def unescaped(name: str) -> str:
    """A name as a manifest of a bag holds it, as it is."""
    return name.replace("%0A", "\n").replace("%0D", "\r").replace("%25", "%")


def _info(description: str, size_bytes: int, files: int) -> list[str]:
    """Labels of 2.2.2. A long description is folded: lines that go on are indented."""
    lines = [
        f"Bagging-Date: {datetime.datetime.now(datetime.UTC):%Y-%m-%d}",
        f"Payload-Oxum: {size_bytes}.{files}",
        "Bag-Software-Agent: Rumbrel",
    ]
    words, line = description.split(), "External-Description:"
    for word in words:
        if len(line) + 1 + len(word) > _LONGEST_LINE and line != "External-Description:":
            lines.append(line)
            line = " "
        line = f"{line} {word}"
    return [*lines, line] if words else lines


def _write(path: Path, lines: Sequence[str]) -> None:
    path.write_bytes("".join(f"{line}\n" for line in lines).encode())
