"""Folders whose results are kept up to date: what is new or changed is made again, and what went is named."""

import logging
import os
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import timedelta
from functools import cache
from pathlib import Path

from django.db.models import Count, Sum
from django.utils import timezone

from rumbrel.core.errors import DecodeError, OutputError, RumbrelError
from rumbrel.core.files import file_digest, output_errors
from rumbrel.core.forecast import ResultLedger, Step, source_state
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import known_tracks, without_wholes
from rumbrel.web.jobs.models import Job

from ..models import COVERAGES, Batch, Item, KeptInStep
from ..wishes import BatchWish
from .forecast_tracks import ledger_for, plan_for
from .run_batch import steps_of
from .start_batch import start_batch

__all__ = [
    "Coverage",
    "bring_in_step",
    "change_digest_days",
    "coverages",
    "end_keeping",
    "folder_to_keep",
    "keep_in_step",
    "keep_what_is_due",
]

logger = logging.getLogger(__name__)


def folder_to_keep(batch: Batch) -> SourceFolder | None:
    """The source folder that all tracks of a batch lie in, where it is one."""
    folders = list(
        Track.objects.filter(pk__in=batch.items.values("track_id"))
        .order_by()
        .values_list("folder", flat=True)
        .distinct()[:2]
    )
    return SourceFolder.objects.get(pk=folders[0]) if len(folders) == 1 else None


@dataclass(frozen=True, slots=True, kw_only=True)
class Coverage:
    """What would be kept in sync: how many tracks, and their bytes."""

    key: str
    label: str
    tracks: int
    size_bytes: int


def coverages(batch: Batch) -> list[Coverage]:
    """What to choose from, the least first. Raises OutputError where its tracks lie in several source folders."""
    found = []
    for covers, label in COVERAGES.items():
        kept = _kept_of(batch, covers)
        sums = Track.objects.filter(pk__in=_covered(kept)).aggregate(n=Count("pk"), s=Sum("size_bytes"))
        found.append(Coverage(key=covers, label=label, tracks=sums["n"], size_bytes=sums["s"] or 0))
    return found


def _kept_of(batch: Batch, covers: str) -> KeptInStep:
    folder = folder_to_keep(batch)
    if folder is None:
        raise OutputError("The tracks of this batch lie in several source folders. Make a batch of one of them.")
    wish = BatchWish.restored(batch.targets, batch.options)
    tracks = Track.objects.filter(pk__in=batch.track_ids)
    return KeptInStep(
        folder=folder, target_name=wish.name, targets=batch.targets, options={**wish.as_record(), "keeps_in_line": True},
        covers=covers,
        directories=sorted(set(tracks.values_list("directory", flat=True))) if covers == "folders" else [],
        track_ids=list(batch.track_ids) if covers == "tracks" else [],
    )  # fmt: skip


def keep_in_step(*, batch: Batch, covers: str = "all") -> KeptInStep:
    """Have the results of a batch kept as the batch makes them, for its tracks, their folders or all of its source folder.
    Raises OutputError where its tracks lie in several source folders."""
    wanted = _kept_of(batch, covers)
    kept, _ = KeptInStep.objects.get_or_create(
        folder=wanted.folder, target_name=wanted.target_name, targets=wanted.targets, options=wanted.options,
        covers=covers, directories=wanted.directories, track_ids=wanted.track_ids,
    )  # fmt: skip
    Batch.objects.filter(pk=batch.pk).update(in_step=kept)
    return kept


def _covered(kept: KeptInStep) -> list[int]:
    """Its tracks that are there. Of a whole file and its parts only the parts: both would hold the same sound twice."""
    tracks = kept.folder.tracks.filter(missing_since=None)
    if kept.covers == "folders":
        tracks = tracks.filter(directory__in=kept.directories)
    elif kept.covers == "tracks":
        tracks = tracks.filter(pk__in=kept.track_ids)
    return list(without_wholes(tracks).order_by("relative", "pk").values_list("pk", flat=True))


def change_digest_days(*, kept: KeptInStep, days: int) -> None:
    """Every how many days the originals' bytes are compared; 0 for never."""
    KeptInStep.objects.filter(pk=kept.pk).update(digest_days=days)


def end_keeping(*, kept: KeptInStep) -> None:
    """Stop syncing; what was made stays."""
    kept.delete()


def bring_in_step(*, kept: KeptInStep) -> Batch | None:
    """Start a batch of what is new or changed in the folder; None where nothing is. What went is noted.

    What failed, or could be saved in part only, is not tried again until its file changes, unless the reason may have
    passed: a disk that was away, or full. What is lacking for good is noted with its reason.
    """
    wish = BatchWish.restored(kept.targets, kept.options)
    begun_at = timezone.now()
    ids = _covered(kept)
    _compare_digests(kept, wish)
    plan = plan_for(known_tracks(ids), wish)
    if _carry_along(wish, plan.steps):
        plan = plan_for(known_tracks(ids), wish)
    tried = _tried(kept)
    working = {step.source_id for step in plan.steps if step.writes and _key(step) not in tried}
    kept.gone = _gone(kept, wish)
    kept.lacking = [
        {"name": _within(kept, step), "why": tried[_key(step)]}
        for step in plan.steps
        if step.writes and _key(step) in tried
    ]
    kept.looked_at = begun_at
    kept.save(update_fields=["gone", "lacking", "looked_at"])
    if not working:
        return None
    return start_batch(track_ids=[pk for pk in ids if pk in working], wish=wish, in_step=kept)


def _compare_digests(kept: KeptInStep, wish: BatchWish) -> None:
    """Where it is due, find originals whose bytes are others although size and time are the same: their results are made
    again."""
    now = timezone.now()
    if not kept.digest_days or (kept.digested_at and now - kept.digested_at < timedelta(days=kept.digest_days)):
        return
    digests: dict[str, str] = {}
    for ledger in _ledgers(wish):
        for entry in ledger.entries():
            inside = entry.source.startswith(f"{kept.folder.path}/")
            if not inside or not entry.source_digest or not Path(entry.source).is_file():
                continue
            try:
                if entry.source not in digests:
                    digests[entry.source] = file_digest(Path(entry.source))
            except DecodeError as error:
                logger.warning("%s could not be compared: %s", entry.source, error)
                continue
            if digests[entry.source] != entry.source_digest:
                # No source is of that time, so the result counts as one of an older state.
                ledger.add(replace(entry, source_ns=-1))
    kept.digested_at = now
    kept.save(update_fields=["digested_at"])


def _carry_along(wish: BatchWish, steps: Sequence[Step]) -> int:
    """Results whose originals have another name now get theirs, instead of being made again. Returns how many."""
    ledgers, digests, carried = cache(ledger_for), dict[str, str](), 0
    for step in steps:
        output = Path(step.output)
        if not step.writes or step.source.is_part or step.replaces or output.exists():
            continue
        ledger = ledgers(wish.folder_of(step.target))
        if not ledger.has_moved:
            continue
        source = Path(step.source.path)
        try:
            if step.source.path not in digests:
                digests[step.source.path] = file_digest(source)
            entry = ledger.moved(digests[step.source.path], step.work)
            if entry is None:
                continue
            state = source_state(source)
            with output_errors(output.parent):
                output.parent.mkdir(parents=True, exist_ok=True)
                ledger.add(
                    replace(
                        entry, source=str(source.absolute()), source_bytes=step.source.size_bytes,
                        source_ns=step.source.modified_ns, output=step.output, **state,
                    )
                )  # fmt: skip
                os.rename(entry.output, output)
        except (OSError, RumbrelError) as error:
            logger.warning("the result of %s could not be renamed: %s", source, error)
            continue
        carried += 1
    return carried


def _ledgers(wish: BatchWish) -> list[ResultLedger]:
    folders = {wish.folder_of(target) for target in wish.all_targets}
    return [ledger_for(folder) for folder in folders]


_Key = tuple[str, str, int, int]


def _key(step: Step) -> _Key:
    """A file as it is, and what it is made for."""
    return step.target.slug, step.source.key, step.source.size_bytes, step.source.modified_ns


def _within(kept: KeptInStep, step: Step) -> str:
    """A source's place in the folder, in signs that JSON holds."""
    path = Path(step.source.path)
    inside = path.relative_to(kept.folder.path) if path.is_relative_to(kept.folder.path) else path
    return f"{inside}{step.source.part}".encode("utf-8", "replace").decode()


def _tried(kept: KeptInStep) -> dict[_Key, str]:
    """What failed for a reason of its file, with the reason."""
    states = (Item.State.FAILED, Item.State.PART)
    found: dict[_Key, str] = {}
    for batch in kept.batches.all():
        failed = dict(batch.items.filter(state__in=states, may_pass=False).values_list("number", "error"))
        found |= {_key(step): failed[number] for number, step in steps_of(batch, numbers=set(failed)).items()}
    return found


def _gone(kept: KeptInStep, wish: BatchWish) -> list[str]:
    """Results that are there and whose originals are not."""
    found, ledgers = set(), cache(ledger_for)
    for target in wish.all_targets:
        ledger = ledgers(wish.folder_of(target))
        for output in ledger.outputs():
            entry = ledger.made(output)
            inside = entry is not None and entry.source.startswith(f"{kept.folder.path}/")
            if entry is not None and inside and not Path(entry.source).exists():
                found.add(output)
    return sorted(found)


def keep_what_is_due() -> int:
    """Bring in step what was scanned since the last look; returns how many batches were started."""
    started = 0
    for kept in KeptInStep.objects.select_related("folder"):
        scans = Job.objects.filter(kind="scan", subject=kept.folder_id)
        if scans.filter(state__in=Job.ACTIVE).exists() or kept.batches.filter(job__state__in=Job.ACTIVE).exists():
            continue
        newest = scans.filter(state=Job.State.DONE).order_by("-ended_at").first()
        if newest is not None and (kept.looked_at is None or newest.ended_at > kept.looked_at):
            try:
                started += bring_in_step(kept=kept) is not None
            except RumbrelError as error:
                # The others have their turn; this one is tried again at the next round.
                logger.warning("%s could not be synced: %s", kept, error)
    return started
