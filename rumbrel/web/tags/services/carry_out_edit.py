"""The work of an edit: each file changed, and the collection told."""

from django.db import transaction

from rumbrel.core.crew import default_jobs
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.tags import Cover
from rumbrel.core.tags.editing import TagChange
from rumbrel.core.workflows.edit_tags import EditOutcome, EditTask, edit_files
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import keep_edited, recount_folder
from rumbrel.web.jobs.services import Desk
from rumbrel.web.ui.words import counted

from ..models import EditedFile, TagEdit
from .kept_pictures import keep_pictures, kept_pictures, new_picture_path, old_pictures_path

__all__ = ["carry_out_edit"]


def carry_out_edit(desk: Desk, edit_id: int) -> str:
    """Write what waits; returns what came of it. Safe to run again: what is written is not written twice."""
    edit = TagEdit.objects.get(pk=edit_id)
    desk.report(Progress(done=0, total=0, unit=Unit.FILES, step="writing tags"))
    waiting = {file.pk: file for file in edit.files.exclude(state=EditedFile.State.DONE).select_related("track")}
    facts = facts_by_id([file.track_id for file in waiting.values() if file.track_id])
    tasks = []
    for file in waiting.values():
        known = facts.get(file.track_id or 0)
        if known is None or file.track is None or file.track.missing_since:
            _fail(file, "The file is not there. Connect its disk, scan its folder again, then try again.")
        else:
            tasks.append(_task(edit, file, known))
    folders = {}
    for event in edit_files(tasks, jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
            continue
        file = waiting[event.id]
        _settle(edit, file, event)
        if event.edited and file.track:
            folders[file.track.folder_id] = file.track.folder
    for folder in folders.values():
        recount_folder(folder=folder)
    return _summary(edit)


def _task(edit: TagEdit, file: EditedFile, facts: Facts) -> EditTask:
    covers: tuple[Cover, ...] | None = None
    if edit.cover_act == TagEdit.CoverAct.PUT:
        covers = kept_pictures(new_picture_path(edit.pk))
    elif edit.cover_act == TagEdit.CoverAct.TAKE:
        covers = ()
    elif edit.cover_act == TagEdit.CoverAct.BACK and edit.undoes:
        before = edit.undoes.files.filter(track_id=file.track_id, has_pictures=True).first()
        covers = kept_pictures(old_pictures_path(before.pk)) if before else ()
    fields = {name: tuple(values) for name, values in file.change.items()}
    pixels = edit.cover_pixels if edit.cover_act == TagEdit.CoverAct.SMALLER else None
    return EditTask(id=file.pk, facts=facts, change=TagChange(fields=fields, covers=covers), smaller_pixels=pixels)


def _fail(file: EditedFile, reason: str) -> None:
    EditedFile.objects.filter(pk=file.pk).update(state=EditedFile.State.FAILED, error=reason)


def _settle(edit: TagEdit, file: EditedFile, outcome: EditOutcome) -> None:
    """What became of a file, for the report, for undo and for the collection."""
    if outcome.edited is None:
        _fail(file, outcome.error)
        return
    before = outcome.edited.before
    keeps = bool(edit.cover_act) and bool(before.covers)
    if keeps:
        keep_pictures(old_pictures_path(file.pk), before.covers)
    lost = f"{', '.join(outcome.edited.lost)} cannot be held by this format." if outcome.edited.lost else ""
    with transaction.atomic():
        EditedFile.objects.filter(pk=file.pk).update(
            state=EditedFile.State.DONE,
            error=lost,
            has_pictures=keeps,
            before={name: list(before.fields.get(name, ())) for name in file.change},
        )
        if file.track is not None:
            keep_edited(track=file.track, facts=outcome.edited.facts)


def _summary(edit: TagEdit) -> str:
    done = edit.files.filter(state=EditedFile.State.DONE).count()
    failed = edit.files.filter(state=EditedFile.State.FAILED).count()
    text = f"{counted(done, 'file')} written, the sound of each proved unchanged"
    return f"{text}; {failed:,} could not be." if failed else f"{text}."
