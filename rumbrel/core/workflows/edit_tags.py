"""Change the tags of a source: of a copy first, which takes its file's position once its sound is proved the same."""

import os
import shutil
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.crew import Tell
from rumbrel.core.encoders.rewrap import CodedSound, packets_digest
from rumbrel.core.errors import RumbrelError, TagError
from rumbrel.core.files import output_errors, working_file
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.tags import Cover, TagRules, TagSet, apply_rules, read_tags
from rumbrel.core.tags.editing import TagChange, edit_tags

from .crewed import carried_out

__all__ = ["EditOutcome", "EditTask", "Edited", "edit_file", "edit_files", "undoing"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Edited:
    """A file whose tags were changed: its facts now, its tags before with their pictures, and what it cannot hold."""

    facts: Facts
    before: TagSet
    lost: tuple[str, ...] = ()


def undoing(edited: Edited, change: TagChange) -> TagChange:
    """What brings back the tags that a change has changed."""
    fields = {name: edited.before.fields.get(name, ()) for name in change.fields}
    return TagChange(fields=fields, covers=None if change.covers is None else edited.before.covers)


def edit_file(facts: Facts, change: TagChange) -> Edited:
    """Change the tags of the file that facts are about. It appears whole, changed, or stays as it was.

    Raises TagError and OutputError; TagError too where the file is not the one that was inspected, or where its
    sound would not be the same afterwards.
    """
    # A link's own file is changed, and the link stays.
    path = Path(facts.path).resolve()
    with output_errors(path.parent):
        status = os.stat(path)
    if (status.st_size, status.st_mtime_ns) != (facts.size_bytes, facts.modified_ns):
        raise TagError("The file changed since it was scanned. Scan its folder again.")
    before = read_tags(path, container=facts.container, codec=facts.codec)
    sound = _digest(facts, path)
    with working_file(path) as working:
        with output_errors(path.parent):
            shutil.copyfile(path, working)
            shutil.copystat(path, working)
            with suppress(PermissionError):
                os.chown(working, status.st_uid, status.st_gid)
        lost = edit_tags(working, change, container=facts.container, codec=facts.codec)
        if _digest(facts, working) != sound:
            raise TagError("The sound would not be the same afterwards, so nothing was written.")
        _compare(read_tags(working, container=facts.container, codec=facts.codec), before, change, lost)
        with output_errors(path.parent):
            now = os.stat(path)
            if (now.st_size, now.st_mtime_ns) != (status.st_size, status.st_mtime_ns):
                raise TagError("The file was changed by something else meanwhile, and is left as that left it.")
            with working.open("rb+") as file:
                os.fsync(file.fileno())
            os.utime(working)
            working.replace(path)
    found = inspect_file(Path(facts.path))
    return Edited(facts=found, before=before, lost=lost)


def _digest(facts: Facts, path: Path) -> str:
    """Of the coded sound; of a header that is not to be believed, of the bytes where the sound lies."""
    if facts.bare is not None:
        raise TagError("Its header is wrong. Convert it first; the result can be tagged.")
    return packets_digest(CodedSound(path=path, index=facts.sound_index, codec=facts.codec, samples=facts.samples))


def _compare(after: TagSet, before: TagSet, change: TagChange, lost: tuple[str, ...]) -> None:
    """Raises TagError where what is read back is not what was to be written, or something else is gone."""
    for name, values in before.fields.items():
        if name not in change.fields and after.fields.get(name) != values:
            raise TagError(f"Writing would have changed '{name}' too, so nothing was written.")
    missing = [
        name for name, values in change.set_fields.items() if name not in lost and name not in after.fields and values
    ]
    if missing:
        raise TagError(f"'{missing[0]}' does not read back, so nothing was written.")
    if change.covers is None and len(after.covers) != len(before.covers):
        raise TagError("Writing would have changed the pictures too, so nothing was written.")


@dataclass(frozen=True, slots=True, kw_only=True)
class EditTask:
    """A file to be changed; smaller_pixels has its pictures made no larger than that, whatever they are."""

    id: int
    facts: Facts
    change: TagChange
    smaller_pixels: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class EditOutcome:
    """What became of a task: edited, or why not."""

    id: int
    edited: Edited | None
    error: str = ""


def _edit(task: EditTask, tell: Tell) -> EditOutcome:
    try:
        change = task.change
        if task.smaller_pixels is not None:
            change = replace(change, covers=_smaller(task.facts, task.smaller_pixels))
        return EditOutcome(id=task.id, edited=edit_file(task.facts, change))
    except RumbrelError as error:
        return EditOutcome(id=task.id, edited=None, error=str(error))


def _smaller(facts: Facts, pixels: int) -> tuple[Cover, ...]:
    tags = read_tags(Path(facts.path), container=facts.container, codec=facts.codec)
    fitted, notes = apply_rules(tags, TagRules(cover_pixels=pixels))
    if notes:
        raise TagError(f"A picture could not be made smaller: {notes[0]}.")
    return fitted.covers


def _lost(task: EditTask, tries: int) -> EditOutcome:
    return EditOutcome(id=task.id, edited=None, error=f"Reading it ended the reader {tries} times. It is as it was.")


def edit_files(tasks: Sequence[EditTask], *, jobs: int) -> Iterator[EditOutcome | Progress]:
    """Change many files on several cores. Closing the iterator stops the work; what was begun stays as it was."""
    return carried_out(_edit, tasks, jobs=jobs, weigh=lambda task: 1, unit=Unit.FILES, step="writing tags", lost=_lost)
