"""Change the tags of a source: of a copy first, which takes its file's position once its sound is proved the same."""

import json
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.crew import Death, Tell
from rumbrel.core.errors import RumbrelError, TagError
from rumbrel.core.files import file_identity, output_errors, working_file, write_whole
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.records import as_record, from_record
from rumbrel.core.tags import TagRules, TagSet, apply_rules, read_tags
from rumbrel.core.tags.editing import TagChange, edit_tags, read_layout
from rumbrel.core.tags.kept_covers import keep_covers, kept_covers
from rumbrel.core.tags.layout import keep_layout, kept_layout

from .crewed import carried_out
from .fixity import Digests, digests_of

__all__ = ["EditOutcome", "EditTask", "Edited", "edit_file", "edit_files"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Edited:
    """A file whose tags were changed: its facts now, its digests before and now, and which of the changed fields it
    could not hold as they were asked for."""

    facts: Facts
    before: Digests
    after: Digests
    lost: tuple[str, ...] = ()


def edit_file(
    facts: Facts,
    change: TagChange | Callable[[TagSet], TagChange],
    *,
    keep: Callable[[TagSet], None] = lambda before: None,
    landing: Callable[[Edited, Path], None] = lambda edited, working: None,
) -> Edited:
    """Change the tags of the file that facts are about. It appears whole, changed, or stays as it was.

    change may be worked out from the tags before; keep is given these before the file is replaced, and landing what
    will be returned, with facts as they were, and the file that will take its position. Raises TagError and OutputError; TagError too where the file is not the one that was inspected, or where its sound or another
    tag would not be the same afterwards.
    """
    # A link's own file is changed, and the link stays.
    path = Path(facts.path).resolve()
    with output_errors(path.parent):
        status = os.stat(path)
    if facts.bare is not None:
        raise TagError("Its header is wrong. Convert it first; the result can be tagged.")
    if (status.st_size, status.st_mtime_ns) != (facts.size_bytes, facts.modified_ns):
        raise TagError("The file changed since it was scanned. Scan its folder again.")
    tags = read_tags(path, container=facts.container, codec=facts.codec)
    wanted = change if isinstance(change, TagChange) else change(tags)
    before = _digests(facts, path)
    with working_file(path) as working:
        with output_errors(path.parent):
            shutil.copyfile(path, working)
            shutil.copystat(path, working)
            with suppress(PermissionError):
                os.chown(working, status.st_uid, status.st_gid)
        lost = edit_tags(working, wanted, container=facts.container, codec=facts.codec)
        after = _digests(facts, working)
        if after.sound != before.sound:
            raise TagError("The sound would not be the same afterwards, so nothing was written.")
        found = read_tags(working, container=facts.container, codec=facts.codec)
        lost = _compared(found, tags, wanted, lost)
        keep(tags)
        edited = Edited(facts=facts, before=before, after=after, lost=lost)
        with output_errors(path.parent):
            os.utime(working)
        landing(edited, working)
        with output_errors(path.parent):
            now = os.stat(path)
            if (now.st_size, now.st_mtime_ns) != (status.st_size, status.st_mtime_ns):
                raise TagError("The file was changed by something else meanwhile, and is left as that left it.")
            with working.open("rb+") as file:
                os.fsync(file.fileno())
            working.replace(path)
    return replace(edited, facts=inspect_file(Path(facts.path), sound=facts.sound_wish))


def _digests(facts: Facts, path: Path) -> Digests:
    with output_errors(path.parent):
        found = digests_of(replace(facts, path=str(path)))
    if not found.sound:
        raise TagError("Its coded sound cannot be read, so nothing was written. Analyse the track.")
    return found


def _compared(after: TagSet, before: TagSet, change: TagChange, lost: tuple[str, ...]) -> tuple[str, ...]:
    """The names of what does not read back as it was asked for, though something of it does: a format may hold one
    value alone, or whole numbers. Raises TagError where it does not read back at all, or something else is gone."""
    for name, values in before.fields.items():
        if name not in change.fields and after.fields.get(name) != values:
            raise TagError(f"Writing would have changed '{name}' too, so nothing was written.")
    for name, values in change.fields.items():
        if (name in after.fields) != bool(values) and name not in lost:
            raise TagError(f"'{name}' does not read back as it was to be, so nothing was written.")
    if after.chapters != before.chapters:
        raise TagError("Writing would have changed the chapters too, so nothing was written.")
    pictures = [cover.data for cover in before.covers if change.covers is None] or [
        cover.data for cover in change.covers or ()
    ]
    if [cover.data for cover in after.covers] != pictures and "cover" not in lost:
        raise TagError("The pictures do not read back as they were to be, so nothing was written.")
    altered = [name for name, values in change.set_fields.items() if after.fields.get(name) != values]
    return tuple(dict.fromkeys((*lost, *altered)))


@dataclass(frozen=True, slots=True, kw_only=True)
class EditTask:
    """A file to be changed. What is asked of its pictures beside the change: covers_from is a file of those to put in
    instead, smaller_pixels has them made no larger. Those that were there go into before_covers, once. How the changed
    fields were laid out goes into before_layout likewise; layout_from is such a file, to go back to. note is where it is
    noted what took the file's position: who is killed before that is heard is not taken for a stranger."""

    id: int
    facts: Facts
    change: TagChange
    covers_from: Path | None = None
    smaller_pixels: int | None = None
    before_covers: Path | None = None
    before_layout: Path | None = None
    layout_from: Path | None = None
    note: Path | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class EditOutcome:
    """What became of a task: edited, or why not."""

    id: int
    edited: Edited | None
    error: str = ""


def _edit(task: EditTask, tell: Tell) -> EditOutcome:
    def change(before: TagSet) -> TagChange:
        wanted = task.change
        if task.layout_from is not None and task.layout_from.exists():
            wanted = replace(wanted, layout=kept_layout(task.layout_from))
        if task.covers_from is not None:
            return replace(wanted, covers=kept_covers(task.covers_from))
        if task.smaller_pixels is not None:
            return replace(wanted, covers=_smaller(before, task.smaller_pixels).covers)
        return wanted

    def keep(before: TagSet) -> None:
        # What another try kept is from before the first change.
        if task.before_covers is not None and not task.before_covers.exists():
            keep_covers(task.before_covers, before.covers)
        if task.before_layout is not None and not task.before_layout.exists():
            facts, fields = task.facts, task.change.fields
            keep_layout(
                task.before_layout,
                read_layout(Path(facts.path), fields, container=facts.container, codec=facts.codec),
            )

    def landing(edited: Edited, working: Path) -> None:
        if task.note is not None:
            digests = {"before": as_record(edited.before), "after": as_record(edited.after)}
            write_whole(task.note, json.dumps({"file": file_identity(working), "lost": edited.lost, **digests}))

    try:
        edited = _landed(task) or edit_file(task.facts, change, keep=keep, landing=landing)
        return EditOutcome(id=task.id, edited=edited)
    except RumbrelError as error:
        return EditOutcome(id=task.id, edited=None, error=str(error))


def _landed(task: EditTask) -> Edited | None:
    """What another try made of the file without being heard, if it is what lies there."""
    if task.note is None or not task.note.exists():
        return None
    with output_errors(task.note.parent):
        record = json.loads(task.note.read_text())
        path = Path(task.facts.path)
        if not path.exists() or file_identity(path) != record["file"]:
            return None
    before, after = (from_record(Digests, record[which]) for which in ("before", "after"))
    return Edited(
        facts=inspect_file(path, sound=task.facts.sound_wish), before=before, after=after, lost=tuple(record["lost"])
    )


def _smaller(tags: TagSet, pixels: int) -> TagSet:
    fitted, notes = apply_rules(tags, TagRules(cover_pixels=pixels))
    if notes:
        raise TagError(f"A picture could not be made smaller: {notes[0]}.")
    return fitted


def _lost(task: EditTask, death: Death) -> EditOutcome:
    text = f"Writing its tags ended the worker {death.tries} times. The file is as it was."
    return EditOutcome(id=task.id, edited=None, error=text)


def edit_files(tasks: Sequence[EditTask], *, jobs: int) -> Iterator[EditOutcome | Progress]:
    """Change many files on several cores. Closing the iterator stops the work; what was begun stays as it was."""
    return carried_out(_edit, tasks, jobs=jobs, weigh=lambda task: 1, unit=Unit.FILES, step="writing tags", lost=_lost)
