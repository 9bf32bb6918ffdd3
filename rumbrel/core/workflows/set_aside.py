"""Set files aside: moved into another folder in their tree, whole and compared, never over another file."""

import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import CheckFailed, OutputError, RumbrelError
from rumbrel.core.files import copy_compared, move_into_place, output_errors, working_file

__all__ = ["Move", "Moved", "carry_out_moves", "plan_moves"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """A file and where it goes; as it was when this was planned, in bytes and nanoseconds."""

    source: Path
    output: Path
    size_bytes: int
    modified_ns: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Moved:
    """error says why a file stayed where it was."""

    move: Move
    error: str = ""


def plan_moves(files: Sequence[tuple[Path, Path]], folder: Path) -> tuple[Move, ...]:
    """Files with their names below the folder: a name that is taken gets a number. Raises OutputError for a file that
    is not there, or lies in the folder already."""
    taken: set[Path] = set()
    moves = []
    for source, relative in files:
        if source.is_relative_to(folder):
            raise OutputError(f"{source.name} lies in {folder} already. Choose another folder.")
        try:
            status = source.stat()
        except OSError as error:
            raise OutputError(f"{source.name} is no longer there. Scan its folder again.") from error
        output, number = folder / relative, 1
        while output in taken or output.exists():
            number += 1
            output = (folder / relative).with_stem(f"{relative.stem} ({number})")
        taken.add(output)
        moves.append(Move(source=source, output=output, size_bytes=status.st_size, modified_ns=status.st_mtime_ns))
    return tuple(moves)


def carry_out_moves(moves: Sequence[Move]) -> Iterator[Moved]:
    """Move one by one. A file that cannot be moved stays, and the others go on."""
    for move in moves:
        try:
            _move(move)
        except RumbrelError as error:
            yield Moved(move=move, error=str(error))
        else:
            yield Moved(move=move)


def _move(move: Move) -> None:
    try:
        status = move.source.stat()
    except OSError as error:
        raise OutputError(f"{move.source.name} is no longer there.") from error
    if (status.st_size, status.st_mtime_ns) != (move.size_bytes, move.modified_ns):
        raise CheckFailed(f"{move.source.name} changed meanwhile, and stays.")
    with output_errors(move.output.parent):
        move.output.parent.mkdir(parents=True, exist_ok=True)
        if move.output.exists():
            raise OutputError(f"{move.output.name} appeared there meanwhile; {move.source.name} stays.")
        same_disk = move.output.parent.stat().st_dev == status.st_dev
        if same_disk:
            os.rename(move.source, move.output)
            return
    with working_file(move.output) as working:
        copy_compared(move.source, working)
        # Some file systems keep no times; the file itself is what counts.
        with suppress(OSError):
            shutil.copystat(move.source, working)
        move_into_place(working, move.output, replaces=False)
    with output_errors(move.source.parent):
        move.source.unlink()
