"""Whether what the database names is where it says: source folders, and a sample of results, images and sources."""

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from rumbrel.web.batches.models import Item
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.discs.models import Disc
from rumbrel.web.ui.words import counted

__all__ = ["MissingPlace", "missing_places"]

_SAMPLE = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class MissingPlace:
    """A path that is not there, and what was to be found in it."""

    path: str
    what: str


def missing_places() -> list[MissingPlace]:
    """Source folders that are not there, and the first of each kind of file of which some in a sample are not."""
    found = [
        MissingPlace(path=folder.path, what=counted(folder.tracks.count(), "track"))
        for folder in SourceFolder.objects.all()
        if not Path(folder.path).is_dir()
    ]
    gone = [f"{each.path}/" for each in found]
    results = (
        Item.objects.filter(state=Item.State.DONE).exclude(output="").order_by("-pk").values_list("output", flat=True)
    )
    images = Disc.objects.exclude(image_path="").order_by("-pk").values_list("image_path", flat=True)
    tracks = Track.objects.filter(missing_since=None, cut_of=None).order_by("-pk").values_list("path", flat=True)
    for what, paths in (("result", results), ("disc image", images), ("source", tracks)):
        found += _sampled(what, (path for path in paths[:_SAMPLE] if not path.startswith(tuple(gone))))
    return found


def _sampled(what: str, paths: Iterable[str]) -> list[MissingPlace]:
    looked_at, lost = 0, []
    for path in paths:
        looked_at += 1
        try:
            with Path(path).open("rb") as file:
                file.read(1)
        except OSError:
            # A name of bytes that are no text cannot be told from here.
            if "\\x" not in path:
                lost.append(path)
    return [MissingPlace(path=lost[0], what=f"{len(lost)} of {counted(looked_at, what)} checked")] if lost else []
