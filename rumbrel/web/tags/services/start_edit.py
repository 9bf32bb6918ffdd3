"""Ask for an edit, or for taking one back."""

from collections.abc import Mapping, Sequence

from django.db import transaction

from rumbrel.core.errors import RumbrelError
from rumbrel.core.tags import Cover
from rumbrel.core.tags.kept_covers import keep_covers
from rumbrel.core.tags.wishes import TagWish, changes_for
from rumbrel.web.collection.queries import titles_of
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import start_job
from rumbrel.web.ui.asking import who_asks
from rumbrel.web.ui.words import counted

from ..models import EditedFile, TagEdit
from ..queries import named_files

__all__ = ["EditRefused", "start_edit", "try_edit_again", "undo_edit"]


class EditRefused(RumbrelError):
    """An edit that would change nothing, or cannot be taken back."""


def start_edit(
    *,
    track_ids: Sequence[int],
    wish: TagWish,
    cover_act: str = "",
    cover: Cover | None = None,
    pixels: int | None = None,
) -> TagEdit:
    """Work out what changes in each file, keep it, and queue the work. Raises EditRefused and TagError."""
    files = named_files(track_ids)
    changes: Mapping[int, dict[str, tuple[str, ...]]] = changes_for(files, wish)
    touched = [file.id for file in files if file.id in changes or cover_act]
    if not touched:
        raise EditRefused("No change: every file has these tags already.")
    if cover_act == str(TagEdit.CoverAct.PUT) and cover is None:
        raise EditRefused("Choose the picture to put in.")
    titles = titles_of(touched)
    before = {file.id: file.fields for file in files}
    with transaction.atomic():
        # Here, where nobody else can ask for the same files in between: a file has one writer.
        _refuse_under_way(touched)
        title = (
            f"Tags of {titles[touched[0]]}"[:200] if len(touched) == 1 else f"Tags of {counted(len(touched), 'file')}"
        )
        edit = TagEdit.objects.create(title=title, cover_act=cover_act, cover_pixels=pixels, owner=who_asks())
        EditedFile.objects.bulk_create(
            [_file(edit, pk, titles.get(pk, ""), before[pk], changes.get(pk, {})) for pk in touched],
            batch_size=500,
        )
        if cover is not None:
            keep_covers(edit.new_covers, [cover])
        _queue(edit)
    return edit


def _file(
    edit: TagEdit, track_id: int, title: str, before: Mapping[str, Sequence[str]], change: Mapping[str, Sequence[str]]
) -> EditedFile:
    """What its fields were is kept from the beginning: a kill behind the write does not lose the way back."""
    kept = {name: list(before.get(name, ())) for name in change}
    return EditedFile(edit=edit, track_id=track_id, title=title, change=change, before=kept)


def _refuse_under_way(track_ids: Sequence[int]) -> None:
    """What an edit that is not done yet is to write would be changed without having been seen."""
    writing = EditedFile.objects.filter(edit__job__state__in=Job.ACTIVE, state=EditedFile.State.WAITING)
    if not set(track_ids).isdisjoint(writing.values_list("track_id", flat=True)):
        raise EditRefused(
            "The tags of some of these files are being written. Wait until that has ended, then edit them."
        )


def undo_edit(*, edit: TagEdit) -> TagEdit:
    """Put back what an edit changed in the files that it changed. Raises EditRefused."""
    done = [file for file in edit.files.filter(state=EditedFile.State.DONE) if file.track_id is not None]
    if not done:
        raise EditRefused("It changed no file that is still in the collection.")
    with transaction.atomic():
        _refuse_under_way([file.track_id for file in done if file.track_id])
        if TagEdit.objects.filter(undoes=edit).exists():
            raise EditRefused("It was undone already.")
        act = TagEdit.CoverAct.BACK if edit.cover_act else ""
        back = TagEdit.objects.create(title=f"Back: {edit.title}"[:200], undoes=edit, cover_act=act, owner=who_asks())
        EditedFile.objects.bulk_create(
            [
                EditedFile(
                    edit=back,
                    track_id=file.track_id,
                    title=file.title,
                    change=file.before,
                    before=file.change,
                    covers_from=file.pk if file.old_covers.exists() else None,
                )
                for file in done
            ],
            batch_size=500,
        )
        _queue(back)
    return back


def try_edit_again(*, edit: TagEdit) -> None:
    """Write once more what could not be written."""
    edit.files.filter(state=EditedFile.State.FAILED).update(state=EditedFile.State.WAITING, error="")
    _queue(edit)


def _queue(edit: TagEdit) -> None:
    edit.job = start_job(kind="tags", subject=edit.pk, title=edit.title)
    edit.save(update_fields=["job"])
