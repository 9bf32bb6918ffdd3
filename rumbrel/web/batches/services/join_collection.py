"""Take the results of a batch into the collection, and make a playlist of them in its order."""

from pathlib import Path

from rumbrel.core.errors import RumbrelError
from rumbrel.web.collection.facts import kept_path
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.services import scan_folder
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.playlists.services import make_playlist
from rumbrel.web.ui.words import counted

from ..models import Batch
from ..queries import result_items
from .result_files import result_file

__all__ = ["join_collection", "start_joining"]

_PATHS_A_QUERY = 500


def start_joining(*, batch: Batch) -> Job:
    return start_job(kind="join", subject=batch.pk, title=f"Batch {batch.pk} into the collection")


def join_collection(desk: Desk, batch_id: int) -> str:
    """The work. Results that lie in a source folder already are found by its scan; else their folder becomes one."""
    batch = Batch.objects.get(pk=batch_id)
    paths = [path for item in result_items(batch) if (path := result_file(batch, item)) is not None]
    if not paths:
        raise RumbrelError("The results are no longer there. Run the batch again.")
    for folder in _folders(batch, paths):
        scan_folder(desk, folder.pk)
    ids = _track_ids(paths)
    playlist = make_playlist(name=f"Batch {batch.pk}: {batch.target_name}", track_ids=ids)
    return f"{counted(len(ids), 'track')} in the collection, and in the playlist {playlist.name}."


def _folders(batch: Batch, paths: list[Path]) -> list[SourceFolder]:
    known = list(SourceFolder.objects.all())
    found = {}
    for path in paths:
        inside = [folder for folder in known if kept_path(path.resolve()).startswith(f"{folder.path}/")]
        if inside:
            folder = max(inside, key=lambda each: len(each.path))
        else:
            folder, _ = SourceFolder.objects.get_or_create(path=kept_path(Path(batch.destination).resolve()))
            known.append(folder)
        found[folder.pk] = folder
    return list(found.values())


def _track_ids(paths: list[Path]) -> list[int]:
    """The tracks of files, in their order."""
    kept = [kept_path(path.resolve()) for path in paths]
    ids: dict[str, int] = {}
    for start in range(0, len(kept), _PATHS_A_QUERY):
        rows = Track.objects.filter(path__in=kept[start : start + _PATHS_A_QUERY])
        ids |= dict(rows.values_list("path", "pk"))
    return [ids[path] for path in kept if path in ids]
