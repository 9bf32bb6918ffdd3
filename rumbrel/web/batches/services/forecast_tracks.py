"""The forecast of tracks for targets, from kept facts and the ledger: no sound file is opened."""

import os
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from threading import Lock

from django.conf import settings

from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import ResultLedger, Source, Step
from rumbrel.core.inspection import Facts, Fault, FaultCode
from rumbrel.core.workflows.convert import ConvertPlan, Gathering, plan_conversion
from rumbrel.core.workflows.cut_tracks import part_name
from rumbrel.web.collection.queries import KnownTrack, known_tracks, pull_list_of, pulled_ids
from rumbrel.web.collection.services import allowed_roots

from ..wishes import BatchWish, Choice, Destination, DestinationKind

__all__ = ["PulledForecast", "forecast_tracks", "ledger_for", "plan_for", "see_that_it_may_hold", "source_of"]

_NO_CHOICE = Choice(track_id=0)


def see_that_it_may_hold(destination: Destination) -> None:
    """Raises OutputError for a destination outside the allowed folders, or inside Rumbrel's own data."""
    folder = destination.folder
    if destination.kind is not DestinationKind.FOLDER:
        return
    if not folder.startswith("/") or "\0" in folder:
        raise OutputError("Name the folder for the results by its whole path, or choose it below.")
    try:
        real = Path(folder).resolve()
        is_file = real.exists() and not real.is_dir()
    except (OSError, RuntimeError) as error:
        raise OutputError(f"{folder[:300]} cannot be a folder. Choose another.") from error
    ours = settings.RUMBREL
    data, inside_results = ours.data.resolve(), real.is_relative_to(ours.results.resolve())
    allowed = (*allowed_roots(), ours.results.resolve())
    if not any(real.is_relative_to(root) for root in allowed):
        roots = " and ".join(str(root) for root in ours.roots)
        raise OutputError(f"Rumbrel may only write below {roots}. RUMBREL_ROOTS says so; start it with more folders.")
    own = real.is_relative_to(data) and not any(real.is_relative_to(root) and root != data for root in allowed)
    if own and not inside_results:
        raise OutputError(f"{folder[:300]} is Rumbrel's own data. Choose another folder.")
    nearest = next((each for each in (real, *real.parents) if each.is_dir()), real)
    if not os.access(nearest, os.W_OK | os.X_OK):
        raise OutputError(f"Rumbrel may not write into {nearest}. Change its permissions, or choose another folder.")
    if is_file:
        raise OutputError(f"{folder[:300]} is a file. Choose a folder.")


def plan_for(tracks: Sequence[KnownTrack], wish: BatchWish) -> ConvertPlan:
    """Every track's step for each of its targets. Raises RumbrelError for what cannot be."""
    see_that_it_may_hold(wish.destination)
    by_path: dict[Path, Facts] = {}
    choices = {choice.track_id: choice for choice in wish.choices}
    sources: dict[str, list[Source]] = {target.slug: [] for target in wish.all_targets}
    for track in tracks:
        choice = choices.get(track.pk, _NO_CHOICE)
        if choice.left_out:
            continue
        source, known = source_of(track, choice)
        by_path[source.key] = known
        for slug in [choice.target_slug] if choice.target_slug else [target.slug for target in wish.targets]:
            if slug not in choice.not_for:
                sources[slug].append(source)
    targets = [target for target in wish.all_targets if target in wish.targets or sources[target.slug]]
    return plan_conversion(
        lambda target: Gathering(sources=tuple(sources[target.slug])),
        targets,
        wish.folder_of,
        options=wish.options(),
        inspect=by_path.__getitem__,
        ledger=cache(ledger_for),
    )


def source_of(track: KnownTrack, choice: Choice = _NO_CHOICE) -> tuple[Source, Facts]:
    """A track as a source, with its kept facts; those of one whose file is gone say so."""
    known = track.facts or Facts(path=str(Path(track.folder, track.relative)))
    if track.missing or track.facts is None:
        known = _missing(known)
    source = Source(
        id=track.pk, path=Path(known.path), relative=_relative(track), part=known.part, name=choice.name,
        fields=choice.fields, bare=choice.bare, cover=choice.cover,
    )  # fmt: skip
    return source, known


def _relative(track: KnownTrack) -> Path:
    """The folder's name and what lies below it, by the true path, which may hold bytes that the column does not."""
    root = track.folder.rstrip("/")
    path = track.facts.path if track.facts else ""
    below = path[len(root) + 1 :] if path.startswith(f"{root}/") else track.relative
    if track.facts is not None and track.facts.part:
        name = f"{part_name(track.facts, track.title)}{Path(track.relative).suffix}"
        below = os.path.join(os.path.dirname(below), name)
    return Path(os.path.basename(root), below)


def _missing(facts: Facts) -> Facts:
    text = "The file is no longer there. Connect its disk, then scan its folder again."
    return Facts(
        path=facts.path, tags=facts.tags, stretch=facts.stretch, one_of_sounds=facts.one_of_sounds,
        sound_index=facts.sound_index, faults=(Fault(code=FaultCode.MISSING, text=text),),
    )  # fmt: skip


def ledger_for(destination: Path) -> ResultLedger:
    """What earlier batches and commands made at a destination."""
    return ResultLedger.for_destination(settings.RUMBREL.ledger, destination)


@dataclass(frozen=True, slots=True, kw_only=True)
class PulledForecast:
    """The forecast of the pull list: the steps of one target after those of another, in the list's order, with the
    titles of their tracks. left_out are the tracks that the user left out; left_out_lines those left out of single
    targets, each with the target's name."""

    plan: ConvertPlan
    steps: tuple[Step, ...]
    titles: Mapping[int, str]
    wish: BatchWish
    left_out: tuple[int, ...] = ()
    left_out_lines: tuple[tuple[int, str], ...] = ()

    @property
    def working(self) -> list[Step]:
        return [step for step in self.steps if step.writes]

    @property
    def free_bytes(self) -> int | None:
        """The room where most of the results go."""
        return self.plan.parts[0].forecast.free_bytes if self.plan.parts else None

    @property
    def bytes_before(self) -> int:
        """What is read, each source once."""
        return sum({step.source.key: step.source.sound_bytes for step in self.working}.values())

    @property
    def bytes_after(self) -> int:
        return sum(step.after.size_bytes for step in self.working if step.after)


_kept: dict[tuple[object, ...], PulledForecast] = {}
_lock = Lock()
_MOST_KEPT = 4


def forecast_tracks(*, wish: BatchWish) -> PulledForecast:
    """The forecast of the pulled tracks. Paging through it does not make it anew, as long as neither the
    list nor a destination changed."""
    pull_list = pull_list_of()
    marks = tuple(_mark(wish.folder_of(target)) for target in wish.all_targets)
    beside = (_mark(settings.RUMBREL.ledger),)
    key = (pull_list.pk, pull_list.version, wish, marks, beside)
    with _lock:
        found = None if wish.destination.kind is DestinationKind.BESIDE else _kept.get(key)
    if found is not None:
        return found
    tracks = known_tracks(pulled_ids())
    plan = plan_for(tracks, wish)
    there = {track.pk for track in tracks}
    found = PulledForecast(
        plan=plan,
        steps=plan.steps,
        titles={track.pk: track.title for track in tracks},
        wish=wish,
        left_out=tuple(c.track_id for c in wish.choices if c.left_out and c.track_id in there),
        left_out_lines=tuple(_left_out_lines(wish, there)),
    )
    with _lock:
        while len(_kept) >= _MOST_KEPT:
            _kept.pop(next(iter(_kept)))
        _kept[key] = found
    return found


def _left_out_lines(wish: BatchWish, there: Collection[int]) -> Iterator[tuple[int, str]]:
    names = {target.slug: target.name for target in wish.all_targets}
    for choice in wish.choices:
        if choice.track_id in there and not choice.left_out:
            slugs = [choice.target_slug] if choice.target_slug else [target.slug for target in wish.targets]
            yield from ((choice.track_id, names[slug]) for slug in slugs if slug in choice.not_for)


def _mark(folder: Path) -> int:
    """Changes whenever something is added to a folder or taken from it."""
    try:
        return folder.stat().st_mtime_ns
    except OSError:
        return 0
