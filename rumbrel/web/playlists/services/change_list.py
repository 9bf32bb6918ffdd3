"""Change a list: any change of its rows, kept so that it can be undone, and never lost to another window unsaid."""

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from django.db import connection, transaction

from rumbrel.core.errors import PlaylistError
from rumbrel.core.playlists.ordering import ListRow
from rumbrel.web.collection.queries import titles_of
from rumbrel.web.ui.words import counted, meanwhile

from ..models import Entry, ListChange, Playlist
from .make_playlist import recount_playlist

__all__ = ["MOST_ENTRIES", "Changed", "add_tracks", "change_list", "known_ids", "undo_list"]

MOST_ENTRIES = 100_000
_MOST_KEPT = 30
_FIELDS = (
    "pk",
    "track_id",
    "track__title",
    "track__performer",
    "track__album",
    "track__relative",
    "track__seconds",
    "track__year",
)

Change = Callable[[list[ListRow]], list[ListRow]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Changed:
    """told is what the user has to know beside the change itself; entries is how many rows there are then."""

    told: str = ""
    entries: int = 0


def _rows(playlist: Playlist, *, words: bool) -> list[ListRow]:
    if not words:
        return [ListRow(entry=pk, track=track) for pk, track in playlist.entries.values_list("pk", "track_id")]
    return [
        ListRow(
            entry=pk, track=track, title=title, performer=performer, album=album, folder=relative.rpartition("/")[0],
            seconds=seconds, year=year,
        )
        for pk, track, title, performer, album, relative, seconds, year in playlist.entries.values_list(*_FIELDS)
    ]  # fmt: skip


def _meanwhile(playlist: Playlist, revision: int | None) -> str:
    if revision is None or revision >= playlist.revision:
        return ""
    return meanwhile("list", list(playlist.changes.filter(revision__gte=revision).values_list("said", flat=True)[:3]))


def change_list(
    *, playlist_id: int, change: Change, said: str, revision: int | None = None, words: bool = False
) -> Changed:
    """Make a change of the list as it is now; revision is the one that the user saw, words says that the change looks
    at titles and the like. Raises PlaylistError for what cannot be."""
    with transaction.atomic():
        playlist = Playlist.objects.select_for_update().get(pk=playlist_id)
        told = _meanwhile(playlist, revision)
        before = _rows(playlist, words=words)
        after = change(before)
        if [row.entry for row in after] == [row.entry for row in before] and all(row.entry for row in after):
            return Changed(told=told, entries=len(after))
        if len(after) > MOST_ENTRIES:
            raise PlaylistError(f"A list holds at most {MOST_ENTRIES:,} entries. Make another one.")
        ListChange.objects.create(
            playlist=playlist, revision=playlist.revision, said=said[:200],
            before=json.dumps([[row.entry, row.track] for row in before], separators=(",", ":")),
        )  # fmt: skip
        old = list(playlist.changes.values_list("pk", flat=True)[_MOST_KEPT:])
        ListChange.objects.filter(pk__in=old).delete()
        _settle(playlist, [row.entry for row in before], after)
    return Changed(told=told, entries=len(after))


def _settle(playlist: Playlist, before: Sequence[int], after: Sequence[ListRow]) -> None:
    """Bring the entries into line, in a few statements however long the list is."""
    kept = {row.entry for row in after if row.entry}
    gone = [(pk,) for pk in before if pk not in kept]
    places = {pk: number for number, pk in enumerate(before, 1)}
    moved = [
        (number, row.entry) for number, row in enumerate(after, 1)
        if row.entry in places
    ]  # fmt: skip
    new = [
        Entry(pk=row.entry or None, playlist=playlist, track_id=row.track, position=number)
        for number, row in enumerate(after, 1)
        if row.entry not in places
    ]
    table = Entry._meta.db_table
    with connection.cursor() as cursor:
        cursor.executemany(f"DELETE FROM {table} WHERE id = %s", gone)
        cursor.executemany(f"UPDATE {table} SET position = %s WHERE id = %s", moved)
    Entry.objects.bulk_create(new, batch_size=2_000)
    playlist.revision += 1
    playlist.save(update_fields=["revision"])
    recount_playlist(playlist=playlist)


def undo_list(*, playlist_id: int, revision: int | None = None) -> Changed:
    """Take the last change back; tracks that left the collection since stay away. Raises PlaylistError when there is
    none."""
    with transaction.atomic():
        playlist = Playlist.objects.select_for_update().get(pk=playlist_id)
        told = _meanwhile(playlist, revision)
        last = playlist.changes.first()
        if last is None:
            raise PlaylistError("There is nothing to undo on this list.")
        rows = [ListRow(entry=entry, track=track) for entry, track in json.loads(last.before)]
        before = [row.entry for row in _rows(playlist, words=False)]
        rows = _still_known(rows, before)
        last.delete()
        _settle(playlist, before, rows)
    return Changed(told=told, entries=len(rows))


def _still_known(rows: Sequence[ListRow], there: Sequence[int]) -> list[ListRow]:
    coming = {row.track for row in rows if row.entry not in set(there)}
    known = set(titles_of(sorted(coming)))
    here = set(there)
    return [row for row in rows if row.entry in here or row.track in known]


def add_tracks(*, playlist_id: int, track_ids: Sequence[int], revision: int | None = None) -> Changed:
    """Tracks behind the last entry. Raises PlaylistError for none."""
    if not track_ids:
        raise PlaylistError("There is no track to put on the list.")
    return change_list(
        playlist_id=playlist_id, revision=revision, said=f"{counted(len(track_ids), 'track')} added",
        change=lambda rows: [*rows, *(ListRow(entry=0, track=pk) for pk in track_ids)],
    )  # fmt: skip


def known_ids(ids: Sequence[int]) -> list[int]:
    """Those of some tracks that are in the collection, in their order."""
    there = titles_of(ids)
    return [pk for pk in ids if pk in there]
