"""The volumes on the bench: plugged in and out, named, formatted anew, and checked."""

import os
from collections.abc import Sequence
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.utils import timezone

from rumbrel.core.bench.volumes import (
    BENCH_VOLUMES,
    FORMATS,
    bench_volume,
    come_with,
    format_volume,
    lost_by_formatting,
    plug,
)
from rumbrel.core.crew import default_jobs
from rumbrel.core.delivery.player_view import is_sound
from rumbrel.core.errors import OutputError
from rumbrel.core.inspection import Facts, inspect_many
from rumbrel.core.places import Volume, VolumeKind, list_volume, mounted_kind, volume_at
from rumbrel.core.targets import find_target
from rumbrel.web.batches.services import see_that_it_may_hold
from rumbrel.web.batches.wishes import Destination, DestinationKind
from rumbrel.web.collection.facts import kept_facts, kept_path, restored_facts
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Delivery, VolumeFile, VolumeRow

__all__ = [
    "add_real_volume",
    "change_volume",
    "facts_on",
    "format_anew",
    "look_at_volume",
    "lost_on",
    "plug_volume",
    "remove_volume",
    "root_of",
    "start_look",
    "stand_in_volumes",
    "volume_of",
]


def stand_in_volumes() -> list[VolumeRow]:
    """Those that ship, each with its row: made at first sight."""
    there = {row.key: row for row in VolumeRow.objects.exclude(key="")}
    new = [each for each in BENCH_VOLUMES if each.key not in there]
    if new:
        VolumeRow.objects.bulk_create(
            [
                VolumeRow(key=each.key, name=each.name, file_system=each.file_system, target_slug=each.target)
                for each in new
            ],
            ignore_conflicts=True,
        )
        there = {row.key: row for row in VolumeRow.objects.exclude(key="")}
    return [there[each.key] for each in BENCH_VOLUMES]


def root_of(row: VolumeRow) -> Path:
    return settings.RUMBREL.volumes / row.key if row.key else Path(row.path)


def _kind_of(row: VolumeRow) -> VolumeKind:
    if row.key:
        return bench_volume(row.key).kind(row.file_system)
    kind, point = mounted_kind(root_of(row))
    if str(point) != row.mount_point:
        raise OutputError(f"{row} is not there: nothing is mounted at {row.mount_point}. Connect it, then continue.")
    return kind


def volume_of(row: VolumeRow) -> Volume:
    """The volume as it is now. Raises OutputError when it is out."""
    root = root_of(row)
    if row.key and row.plugged:
        come_with(root, bench_volume(row.key))
    if row.key and not row.plugged:
        raise OutputError(f"{row} is taken out. Plug it in, then continue.")
    return volume_at(root, _kind_of(row))


def add_real_volume(*, path: str, name: str, target_slug: str) -> VolumeRow:
    """A mounted folder below the allowed ones. Raises OutputError, TargetError."""
    see_that_it_may_hold(Destination(kind=DestinationKind.FOLDER, folder=path))
    real = Path(path).resolve()
    if not real.is_dir():
        raise OutputError(f"{path[:300]} is not there. Connect the stick or card, then add it.")
    if real.is_relative_to(settings.RUMBREL.data.resolve()):
        raise OutputError(f"{path[:300]} is Rumbrel's own data. Choose the folder of a stick or card.")
    kind, point = mounted_kind(real)
    row, made = VolumeRow.objects.get_or_create(
        key="", path=str(real),
        defaults={
            "name": name.strip()[:120] or real.name, "mount_point": str(point), "file_system": kind.file_system,
            "target_slug": find_target(target_slug).slug,
        },
    )  # fmt: skip
    if not made:
        raise OutputError(f"{row} is that folder already.")
    return row


def remove_volume(*, row: VolumeRow) -> None:
    """Forget a real one; its files stay. Raises OutputError for a stand-in, and while something is delivered."""
    if row.key:
        raise OutputError("Stand-ins stay on the bench. Eject it instead.")
    _idle(row)
    row.delete()


def _idle(row: VolumeRow) -> None:
    if Delivery.objects.filter(volume=row, job__state__in=Job.ACTIVE, started=True).exists():
        raise OutputError(f"Something is being delivered to {row}. Stop that, or wait for its end.")


def change_volume(*, row: VolumeRow, name: str, target_slug: str) -> None:
    """What the user calls it, and the player it is for. Raises TargetError."""
    VolumeRow.objects.filter(pk=row.pk).update(
        name=name.strip()[:120] or row.name, target_slug=find_target(target_slug).slug
    )


def plug_volume(*, row: VolumeRow, plugged: bool) -> None:
    """Put a stand-in in or take it out, even in the middle of work, as people do. Raises OutputError."""
    if not row.key:
        raise OutputError("A real stick is plugged in and out by hand; unmount it first.")
    if plugged:
        come_with(root_of(row), bench_volume(row.key))
    plug(root_of(row), plugged=plugged)
    VolumeRow.objects.filter(pk=row.pk).update(plugged=plugged)
    row.plugged = plugged


def lost_on(row: VolumeRow) -> tuple[Path, ...]:
    """What formatting it anew would lose. Raises OutputError."""
    volume = volume_of(row)
    return lost_by_formatting(volume.root, volume.kind)


def format_anew(*, row: VolumeRow, file_system: str, name: str, lost: Sequence[Path]) -> None:
    """Only a stand-in; lost is what the user was shown. Raises OutputError."""
    if not row.key:
        raise OutputError("Only stand-ins are formatted here. Format a real stick with your system's own means.")
    if file_system not in FORMATS:
        raise OutputError(f"There is no file system '{file_system}' for a stick. There are: {', '.join(FORMATS)}.")
    _idle(row)
    volume = volume_of(row)
    format_volume(volume.root, volume.kind, lost=lost)
    with transaction.atomic():
        row.files.all().delete()
        VolumeRow.objects.filter(pk=row.pk).update(
            file_system=file_system, name=name.strip()[:120] or row.name, looked_at=timezone.now()
        )


def start_look(*, row: VolumeRow) -> Job:
    return start_job(kind="look-volume", subject=row.pk, title=f"Look at {row}", once_more=True)


def look_at_volume(desk: Desk, pk: int) -> str:
    """Read what is new or changed on a volume; what is gone is forgotten. Returns what was found."""
    row = VolumeRow.objects.get(pk=pk)
    volume = volume_of(row)
    there = {kept_path(entry.relative): entry for entry in list_volume(volume) if is_sound(entry.relative)}
    known = {each.relative: each for each in row.files.defer("facts")}
    new = [
        path for path, entry in there.items()
        if path not in known or (known[path].size_bytes, known[path].modified_ns) != (entry.size_bytes, entry.modified_ns)
    ]  # fmt: skip
    changed = set(new)
    paths = [volume.root / there[path].relative for path in new]
    found = inspect_many(paths, deep=False, jobs=default_jobs(), report=desk.report)
    rows = [
        VolumeFile(
            volume=row, relative=path, size_bytes=there[path].size_bytes, modified_ns=there[path].modified_ns,
            facts=kept_facts(deep.facts),
        )
        for path, deep in zip(new, found, strict=True)
        if deep.facts.inspected
    ]  # fmt: skip
    if not volume.is_there:
        raise OutputError(f"{row} was removed while it was being read. Plug it in, then read it again.")
    with transaction.atomic():
        gone = [each.pk for path, each in known.items() if path not in there or path in changed]
        for start in range(0, len(gone), 500):
            VolumeFile.objects.filter(pk__in=gone[start : start + 500]).delete()
        VolumeFile.objects.bulk_create(rows, batch_size=300)
        VolumeRow.objects.filter(pk=row.pk).update(looked_at=timezone.now())
    return f"{counted(len(there), 'sound file')} on {row}."


def facts_on(row: VolumeRow) -> dict[Path, Facts]:
    """The facts of its sound files as they were read last, by their paths on it."""
    root = os.fsencode(root_of(row))
    found = {}
    for data in row.files.values_list("facts", flat=True):
        facts = restored_facts(data)
        inner = os.path.relpath(os.fsencode(facts.path), root)
        found[Path(os.fsdecode(inner))] = facts
    return found
