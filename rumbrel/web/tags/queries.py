"""Tracks as their tags are edited, and the edits that were made."""

from collections.abc import Sequence
from pathlib import Path

from django.db.models import Count, Q, QuerySet
from django.urls import reverse

from rumbrel.core.tags.editing import can_edit
from rumbrel.core.tags.wishes import NamedFile
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.ui.seen import mark_of
from rumbrel.web.ui.traces import Trace, TraceRow

from .models import EditedFile, TagEdit

__all__ = ["edits", "edits_of_track", "mark_of_files", "named_files"]

_MOST_TRACES = 5


def named_files(track_ids: Sequence[int]) -> list[NamedFile]:
    """Tracks with their fields and names, in the order given. Left out are those that are missing or not read yet, and
    those of formats whose tags cannot be written here, and parts of files, which have no tags of their own."""
    return [
        NamedFile(
            id=track.pk,
            name=str(Path(Path(track.folder).name, track.relative).with_suffix("")),
            fields=dict(track.facts.tags.fields),
            pictures=len(track.facts.tags.covers),
        )
        for track in known_tracks(track_ids)
        if track.facts is not None
        and not track.missing
        and track.facts.container
        and not track.facts.is_part
        and can_edit(track.facts.container, track.facts.codec)
    ]


def mark_of_files(files: Sequence[NamedFile]) -> str:
    """What a page that shows these files sends with its act."""
    return mark_of(len(files), *((file.id, file.name, sorted(file.fields.items())) for file in files))


def edits() -> QuerySet[TagEdit]:
    """Newest first, with how many files each is of and how many of them could not be written."""
    failed = Count("files", filter=Q(files__state=EditedFile.State.FAILED))
    return (
        TagEdit.objects.select_related("job", "undone_by").annotate(total=Count("files"), failed=failed).order_by("-pk")
    )


def edits_of_track(track_id: int) -> Trace:
    """The edits that wrote into a track's file, newest first."""
    files = EditedFile.objects.filter(track_id=track_id, state=EditedFile.State.DONE).select_related("edit")
    rows = [
        TraceRow(
            name=file.edit.title,
            detail=f"{file.edit.created_at:%Y-%m-%d %H:%M}",
            address=reverse("tags:edit", args=[file.edit_id]),
        )
        for file in files.order_by("-pk")[:_MOST_TRACES]
    ]
    return Trace(heading="Tags edited", rows=tuple(rows), total=files.count() if rows else 0)
