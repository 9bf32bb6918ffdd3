"""What lies on the demo's sticks and cards: the tour bus's stick as it was filled by hand years ago."""

import shutil
from collections.abc import Sequence
from pathlib import Path

from rumbrel.core.errors import OutputError
from rumbrel.core.playlists import ListEntry, TrackList, write_list
from rumbrel.web.bench.models import VolumeRow
from rumbrel.web.bench.services import root_of, stand_in_volumes, start_look, volume_of

__all__ = ["fill_volumes"]

_ON_STICK = {
    "stick-2gb": (
        "Tower days/03*",
        "Tower days/04*",
        "Tower days/05*",
        "Tower days/06*",
        "Tower days/07*",
        "Spoken/*closed*",
    ),
    "card-16gb": ("Spoken/*closed*", "Organ rolls/Roll 21*"),
}


def fill_volumes(folders: Sequence[Path]) -> None:
    """Copy a few of the recordings onto stand-ins that are empty, and have them looked at. Raises OutputError."""
    for row in stand_in_volumes():
        patterns = _ON_STICK.get(row.key, ())
        if row.looked_at is None and patterns:
            _fill(row, [path for pattern in patterns for path in sorted(folders[0].glob(pattern))])
            start_look(row=row)


def _fill(row: VolumeRow, paths: Sequence[Path]) -> None:
    volume_of(row)
    root, entries = root_of(row), []
    try:
        for path in paths:
            there = root / path.parent.name / path.name
            there.parent.mkdir(exist_ok=True)
            shutil.copy(path, there)
            entries.append(ListEntry(path=there, title=path.stem))
    except OSError as error:
        raise OutputError(f"{row} could not be filled: {error.strerror}.") from error
    write_list(TrackList(entries=tuple(entries), title=row.name), root / f"{row.name}.m3u8")
