"""The forecast of tracks for a target, from kept facts and the ledger: no sound file is opened."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from threading import Lock
from typing import Any

from django.conf import settings

from rumbrel.core.forecast import Forecast, ForecastOptions, ResultLedger, Source, WhenPresent
from rumbrel.core.inspection import Facts, Fault, FaultCode
from rumbrel.core.records import as_record, from_record
from rumbrel.core.tags import EMPTY_TAGS
from rumbrel.core.targets import Target
from rumbrel.core.workflows.convert import ConvertOptions, ConvertPlan, Gathering, LevelWish, plan_conversion
from rumbrel.web.collection.queries import KnownTrack, known_tracks, pull_list_of, pulled_ids

__all__ = ["BatchWish", "forecast_tracks", "plan_for"]


@dataclass(frozen=True, slots=True, kw_only=True)
class BatchWish:
    """What the user asks of a batch beside its tracks."""

    target: Target
    when_present: WhenPresent = WhenPresent.SKIP
    level: LevelWish = LevelWish()

    @property
    def destination(self) -> Path:
        """One folder a target, so that a later batch finds what is there."""
        return settings.RUMBREL.results / self.target.slug

    def options(self) -> ConvertOptions:
        return ConvertOptions(forecast=ForecastOptions(when_present=self.when_present), level=self.level)

    def as_record(self) -> dict[str, Any]:
        return {"when_present": str(self.when_present), "level": as_record(self.level)}

    @classmethod
    def restored(cls, target: Target, record: Mapping[str, Any]) -> "BatchWish":
        level = from_record(LevelWish, record.get("level", {}))
        return cls(target=target, when_present=WhenPresent(record["when_present"]), level=level)


def plan_for(tracks: Sequence[KnownTrack], wish: BatchWish) -> ConvertPlan:
    """Every track's step. Raises RumbrelError for what cannot be."""
    by_path: dict[Path, Facts] = {}
    sources = []
    for track in tracks:
        known = track.facts or Facts(path=str(Path(track.folder, track.relative)))
        if track.missing or track.facts is None:
            known = _missing(known)
        source = Source(id=track.pk, path=Path(known.path), relative=_relative(track), part=known.part)
        by_path[source.key] = known
        sources.append(source)
    gathering = Gathering(sources=tuple(sources))
    return plan_conversion(
        lambda target: gathering,
        [wish.target],
        wish.destination,
        options=wish.options(),
        inspect=by_path.__getitem__,
        ledger=cache(ledger_for),
    )


def _relative(track: KnownTrack) -> Path:
    """The folder's name and what lies below it, by the true path, which may hold bytes that the column does not."""
    root = track.folder.rstrip("/")
    path = track.facts.path if track.facts else ""
    below = path[len(root) + 1 :] if path.startswith(f"{root}/") else track.relative
    if track.facts is not None and track.facts.part:
        below = os.path.join(os.path.dirname(below), _part_name(track))
    return Path(os.path.basename(root), below)


def _part_name(track: KnownTrack) -> str:
    """What a part of a file is called: its number and title, with the ending of its file."""
    tags = track.facts.tags if track.facts else EMPTY_TAGS
    number, title = tags.first("track").partition("/")[0], track.title.replace("/", "-").replace("\0", "")
    name = f"{int(number):02d} {title}" if number.isdecimal() else title
    return f"{name}{Path(track.relative).suffix}"


def _missing(facts: Facts) -> Facts:
    text = "The file is not there any more. Connect its disk, then scan its folder again."
    return Facts(
        path=facts.path, tags=facts.tags, stretch=facts.stretch, faults=(Fault(code=FaultCode.MISSING, text=text),)
    )


def ledger_for(destination: Path) -> ResultLedger:
    """What earlier batches and commands made at a destination."""
    return ResultLedger.for_destination(settings.RUMBREL.ledger, destination)


@dataclass(frozen=True, slots=True, kw_only=True)
class PulledForecast:
    """The forecast of the pull list: steps in its order, with the titles of their tracks."""

    forecast: Forecast
    titles: Mapping[int, str]
    wish: BatchWish


_kept: dict[tuple[object, ...], PulledForecast] = {}
_lock = Lock()
_MOST_KEPT = 4


def forecast_tracks(*, wish: BatchWish, owner: str = "") -> PulledForecast:
    """The forecast of the pulled tracks. Paging through it does not make it anew, as long as neither the
    list nor the destination changed."""
    pull_list = pull_list_of(owner)
    key = (owner, pull_list.pk, pull_list.version, wish, _mark(wish.destination), _mark(settings.RUMBREL.ledger))
    with _lock:
        found = _kept.get(key)
    if found is not None:
        return found
    tracks = known_tracks(pulled_ids(owner))
    plan = plan_for(tracks, wish)
    found = PulledForecast(
        forecast=plan.parts[0].forecast, titles={track.pk: track.title for track in tracks}, wish=wish
    )
    with _lock:
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)))
        _kept[key] = found
    return found


def _mark(folder: Path) -> int:
    """Changes whenever something is added to a folder or taken from it."""
    try:
        return folder.stat().st_mtime_ns
    except OSError:
        return 0
