"""Folders whose results are kept up to date: what is new or changed is made again, and what went is named."""

import logging
from functools import cache
from pathlib import Path

from django.utils import timezone

from rumbrel.core.errors import OutputError, RumbrelError
from rumbrel.core.forecast import Step
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import known_tracks
from rumbrel.web.jobs.models import Job

from ..models import Batch, Item, KeptInStep
from ..wishes import BatchWish
from .forecast_tracks import ledger_for, plan_for
from .run_batch import steps_of
from .start_batch import start_batch

__all__ = ["bring_in_step", "end_keeping", "folder_to_keep", "keep_in_step", "keep_what_is_due"]

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


def keep_in_step(*, batch: Batch) -> KeptInStep:
    """Have the results of a batch's folder kept as the batch makes them. Raises OutputError where its tracks lie in
    several folders."""
    folder = folder_to_keep(batch)
    if folder is None:
        raise OutputError("The tracks of this batch lie in several source folders. Make a batch of one of them.")
    wish = BatchWish.restored(batch.targets, batch.options)
    kept, _ = KeptInStep.objects.get_or_create(
        folder=folder, target_name=wish.name, targets=batch.targets, options={**wish.as_record(), "keeps_in_line": True}
    )
    Batch.objects.filter(pk=batch.pk).update(in_step=kept)
    return kept


def end_keeping(*, kept: KeptInStep) -> None:
    """Nothing is made of itself any more; what was made stays."""
    kept.delete()


def bring_in_step(*, kept: KeptInStep) -> Batch | None:
    """Start a batch of what is new or changed in the folder; None where nothing is. What went is noted.

    What failed, or could be saved in part only, is not tried again until its file changes, unless the reason may have
    passed: a disk that was away, or full. What is lacking for good is noted with its reason.
    """
    wish = BatchWish.restored(kept.targets, kept.options)
    begun_at = timezone.now()
    ids = list(kept.folder.tracks.filter(missing_since=None).order_by("relative", "pk").values_list("pk", flat=True))
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
                logger.warning("%s could not be brought in step: %s", kept, error)
    return started
