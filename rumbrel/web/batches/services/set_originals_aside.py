"""Move the originals of a batch aside, once every check passed; and put them back."""

from collections.abc import Sequence
from pathlib import Path

from django.db.models import F, Q

from rumbrel.core.errors import OutputError
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.set_aside import Move, carry_out_moves, plan_moves
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import start_scan
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Batch, Item
from ..wishes import Destination, DestinationKind
from .forecast_tracks import see_that_it_may_hold

__all__ = [
    "aside_refusal",
    "lossless_without_equal",
    "originals_of",
    "put_originals_back",
    "set_originals_aside",
    "start_aside",
    "start_putting_back",
]


def aside_refusal(batch: Batch) -> str:
    """Why the originals stay where they are; "" where they may be moved."""
    if batch.job is not None and batch.job.active:
        return "The batch is at work. Wait until it has ended."
    if batch.aside.exists():
        return "The originals were moved already."
    wrong = {
        state: batch.counts.get(state, 0)
        for state in (Item.State.FAILED, Item.State.PART, Item.State.CANNOT, Item.State.WAITING)
    }
    said = [f"{number:,} {state}" for state, number in wrong.items() if number]
    if said:
        return f"Not every line passed its check: {', '.join(said)}. Fix those lines, or make a batch without them."
    if batch.items.exclude(verify_error="").exists():
        return "A result failed when it was checked again. Replace it first."
    if not batch.items.filter(state=Item.State.DONE, checked=True).exists():
        return "Nothing was made by this batch."
    return ""


def _movable(batch: Batch) -> list[tuple[Track, Path]]:
    """Every track whose results are there and checked, with its file. A file of which only a part was meant stays, and
    one that plays as it is beside itself as well."""
    items = batch.items.filter(state=Item.State.DONE, checked=True).exclude(track=None)
    tracks = list(
        Track.objects.filter(pk__in=items.values("track_id"), cut_of=None).select_related("folder").order_by("path")
    )
    facts = facts_by_id([track.pk for track in tracks])
    return [(track, Path(facts[track.pk].path)) for track in tracks if track.pk in facts]


def originals_of(batch: Batch) -> list[tuple[Path, Path]]:
    """(file, its name below the folder aside) of every original that may be moved."""
    return [
        (path, Path(Path(track.folder.path).name, path.relative_to(track.folder.path)))
        for track, path in _movable(batch)
    ]


def lossless_without_equal(batch: Batch) -> list[Path]:
    """The lossless originals among them of which no result of the batch has every sample: with them the sound itself
    leaves its place."""
    # Exact says that no sample was changed; silence may have been cut off all the same.
    same = Q(bit_exact=True, samples_in=F("samples_out")) | Q(identical_file=True)
    equal = set(batch.items.filter(same, state=Item.State.DONE, checked=True).values_list("track_id", flat=True))
    return [path for track, path in _movable(batch) if track.lossless and track.pk not in equal]


def start_aside(*, batch: Batch, folder: str) -> Job:
    """Queue the moves. Raises OutputError where the originals must stay, or the folder may not hold them."""
    refusal = aside_refusal(batch)
    if refusal:
        raise OutputError(refusal)
    see_that_it_may_hold(Destination(kind=DestinationKind.FOLDER, folder=folder))
    plan_moves(originals_of(batch), Path(folder))
    batch.aside_folder = folder
    batch.save(update_fields=["aside_folder"])
    return start_job(kind="aside", subject=batch.pk, title=f"Originals of batch {batch.pk} aside")


def set_originals_aside(desk: Desk, batch_id: int) -> str:
    batch = Batch.objects.get(pk=batch_id)
    moves = plan_moves(originals_of(batch), Path(batch.aside_folder))
    return _carried_out(desk, batch, moves, f"in {batch.aside_folder}", note=True)


def start_putting_back(*, batch: Batch) -> Job:
    """Queue the way back."""
    if not batch.aside.exists():
        raise OutputError("No originals of this batch were moved.")
    return start_job(kind="aside-back", subject=batch.pk, title=f"Originals of batch {batch.pk} back")


def put_originals_back(desk: Desk, batch_id: int) -> str:
    batch = Batch.objects.get(pk=batch_id)
    moves = []
    for kept in batch.aside.all():
        there = Path(kept.output)
        status = there.stat() if there.exists() else None
        moves.append(
            Move(
                source=there, output=Path(kept.source), size_bytes=status.st_size if status else 0,
                modified_ns=status.st_mtime_ns if status else 0,
            )
        )  # fmt: skip
    return _carried_out(desk, batch, moves, "where they were", note=False)


def _carried_out(desk: Desk, batch: Batch, moves: Sequence[Move], where: str, *, note: bool) -> str:
    """Move, and keep after each what is where: a stop or a kill loses no trace of any file."""
    errors: list[str] = []
    done = 0
    for number, moved in enumerate(carry_out_moves(moves), 1):
        if moved.error:
            errors.append(moved.error)
        else:
            done += 1
            source, output = str(moved.move.source), str(moved.move.output)
            if note:
                batch.aside.create(source=source, output=output)
            else:
                batch.aside.filter(source=output, output=source).delete()
        desk.report(
            Progress(done=number, total=len(moves), unit=Unit.FILES, step="moving", finished=number, items=len(moves))
        )
        desk.check()
    for folder in SourceFolder.objects.filter(
        pk__in=Track.objects.filter(pk__in=batch.items.values("track_id")).values("folder_id")
    ):
        start_scan(folder=folder)
    text = f"{counted(done, 'original')} {where}"
    return f"{text}; {len(errors):,} stayed: {errors[0]}" if errors else f"{text}."
