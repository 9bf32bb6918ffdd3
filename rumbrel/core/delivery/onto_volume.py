"""One finished file onto a volume: copied, read back there, compared, and only then given its name."""

import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from rumbrel.core.conversion import Outcome
from rumbrel.core.errors import CheckFailed, OutputError, RumbrelError
from rumbrel.core.files import (
    copy_compared,
    move_into_place,
    output_errors,
    remove_working,
    sha256_of,
    working_file,
)
from rumbrel.core.forecast import Action, Step
from rumbrel.core.forecast.steps import warning_records
from rumbrel.core.places import Volume

__all__ = ["Delivered", "put_on_volume", "rename_there", "taken_out"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Delivered:
    """What became of one track: action is copy, convert, rewrap, skip or refuse. output is where it is
    on the volume, "" where it is not; digest and sha256 are those of its bytes as they were read back there. partial says that only a part of the source could be saved, gone that the volume
    was not there for it."""

    step: Step
    ok: bool
    output: str
    bytes_out: int = 0
    digest: str = ""
    sha256: str = ""
    error: str = ""
    partial: bool = False
    gone: bool = False

    def as_record(self) -> dict[str, Any]:
        """The fields of `deliver --json`, in its order."""
        return {
            "source": self.step.source.path,
            "output": self.output or None,
            "action": str(self.step.action),
            "ok": self.ok,
            "bytes_in": self.step.source.sound_bytes,
            "bytes_out": self.bytes_out,
            "checked": self.ok and bool(self.digest),
            "digest": self.digest or None,
            "sha256": self.sha256 or None,
            "error": self.error or None,
            "warnings": warning_records(self.step.warnings),
        }


def taken_out(volume: Volume) -> str:
    """What to say of a volume that is not there in the middle of the work."""
    return f"The volume {volume.root} is no longer there. Connect it again, then continue."


def put_on_volume(
    step: Step,
    made: Outcome | None,
    volume: Volume,
    *,
    keeps_part: bool = True,
    note: Callable[[Path, bool], None] = lambda working, partial: None,
) -> Delivered:
    """Bring a step's result to its destination: what was made for it, also where that is only a part unless told
    otherwise, else the source itself. note is told of each just before it gets its name, with its working file and
    whether it is only a part, so that nothing can come between."""
    if step.action is Action.SKIP:
        return Delivered(step=step, ok=True, output=step.output)
    if step.action is Action.REFUSE:
        return Delivered(step=step, ok=False, output="", error=step.reason)
    source = Path(step.source.path)
    if made is not None:
        if not made.ok and not (made.partial and keeps_part):
            return Delivered(step=step, ok=False, output="", error=made.error, gone=not volume.is_there)
        source = Path(made.step.output)
    try:
        if not volume.is_there:
            raise OutputError(taken_out(volume))
        partial = made is not None and not made.ok
        digest, size = _copied(source, step, lambda working: note(working, partial))
        # What was compared with what is there, byte for byte.
        sha256 = sha256_of(source)
    except (RumbrelError, OSError) as error:
        said = str(error) if isinstance(error, RumbrelError) else f"{source.name} cannot be read: {error.strerror}."
        return Delivered(step=step, ok=False, output="", error=said, gone=not volume.is_there)
    finally:
        if made is not None:
            remove_working(source)
    return Delivered(
        step=step, ok=not partial, output=step.output, bytes_out=size, digest=digest, sha256=sha256, partial=partial,
        error="" if made is None else made.error,
    )  # fmt: skip


def rename_there(step: Step, old: Path, volume: Volume, *, note: Callable[[Path, bool], None]) -> Delivered:
    """Give a file that is on the volume already the name that is asked for now."""
    output = Path(step.output)
    try:
        if not volume.is_there:
            raise OutputError(taken_out(volume))
        with output_errors(output.parent):
            output.parent.mkdir(parents=True, exist_ok=True)
            note(old, False)
            size = old.stat().st_size
            os.rename(old, output)
    except RumbrelError as error:
        return Delivered(step=step, ok=False, output="", error=str(error), gone=not volume.is_there)
    return Delivered(step=step, ok=True, output=step.output, bytes_out=size)


def _copied(source: Path, step: Step, note: Callable[[Path], None]) -> tuple[str, int]:
    output = Path(step.output)
    with working_file(output) as working:
        try:
            digest, size = copy_compared(source, working)
        except CheckFailed as error:
            text = f"{output.name} does not read back from the volume as it was written. Check the volume."
            raise OutputError(text) from error
        with output_errors(output.parent):
            note(working)
        move_into_place(working, output, replaces=step.replaces)
    return digest, size
