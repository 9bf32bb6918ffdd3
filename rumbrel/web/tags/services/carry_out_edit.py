"""The work of an edit: each file changed, and the collection told."""

from django.db import transaction

from rumbrel.core.crew import default_jobs
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.tags.editing import TagChange
from rumbrel.core.workflows.edit_tags import EditOutcome, EditTask, edit_files
from rumbrel.web.collection.models import SourceFolder
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import keep_edited, recount_folder
from rumbrel.web.jobs.services import Desk
from rumbrel.web.ui.words import counted

from ..models import EditedFile, TagEdit, covers_before, layout_before

__all__ = ["carry_out_edit"]


def carry_out_edit(desk: Desk, edit_id: int) -> str:
    """Write what waits; returns what came of it. Safe to run again: what is written is not written twice."""
    edit = TagEdit.objects.get(pk=edit_id)
    desk.report(Progress(done=0, total=0, unit=Unit.FILES, step="writing tags"))
    waiting = {file.pk: file for file in edit.files.exclude(state=EditedFile.State.DONE).select_related("track")}
    facts = facts_by_id([file.track_id for file in waiting.values() if file.track_id])
    undone = dict(edit.undoes.files.values_list("track_id", "pk")) if edit.undoes else {}
    tasks = []
    for file in waiting.values():
        known = facts.get(file.track_id or 0)
        if known is None or file.track is None or file.track.missing_since:
            _fail(file, "The file is not there. Connect its disk, scan its folder again, then try again.")
        else:
            tasks.append(_task(edit, file, known, undone.get(file.track_id)))
    touched = set()
    for event in edit_files(tasks, jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
            continue
        touched.add(_settle(waiting[event.id], event))
    for folder in SourceFolder.objects.filter(pk__in=touched - {None}):
        recount_folder(folder=folder)
    return _summary(edit)


def _task(edit: TagEdit, file: EditedFile, facts: Facts, undone_id: int | None) -> EditTask:
    act = TagEdit.CoverAct
    takes = edit.cover_act == act.TAKE or (edit.cover_act == act.BACK and file.covers_from is None)
    source = {act.PUT: edit.new_covers, act.BACK: file.covers_from and covers_before(file.covers_from)}
    fields = {name: tuple(values) for name, values in file.change.items()}
    return EditTask(
        id=file.pk,
        facts=facts,
        change=TagChange(fields=fields, covers=() if takes else None),
        covers_from=source.get(act(edit.cover_act)),
        smaller_pixels=edit.cover_pixels if edit.cover_act == act.SMALLER else None,
        before_covers=file.old_covers if edit.cover_act else None,
        before_layout=file.old_layout if fields else None,
        layout_from=layout_before(undone_id) if undone_id is not None else None,
        note=file.note,
    )


def _fail(file: EditedFile, reason: str) -> None:
    EditedFile.objects.filter(pk=file.pk).update(state=EditedFile.State.FAILED, error=reason)


def _settle(file: EditedFile, outcome: EditOutcome) -> int | None:
    """What became of a file, for the report and for the collection; returns the folder that is to be recounted."""
    if outcome.edited is None:
        _fail(file, outcome.error)
        return None
    lost = outcome.edited.lost
    text = f"This format cannot hold {', '.join(lost)} as asked." if lost else ""
    with transaction.atomic():
        EditedFile.objects.filter(pk=file.pk).update(state=EditedFile.State.DONE, error=text)
        folder = keep_edited(track_id=file.track_id, edited=outcome.edited) if file.track_id else None
    file.note.unlink(missing_ok=True)
    return folder


def _summary(edit: TagEdit) -> str:
    done = edit.files.filter(state=EditedFile.State.DONE).count()
    failed = edit.files.filter(state=EditedFile.State.FAILED).count()
    text = f"{counted(done, 'file')} written, the sound of each proved unchanged"
    return f"{text}; {failed:,} could not be." if failed else f"{text}."
