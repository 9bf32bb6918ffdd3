"""Volumes and deliveries as the bench shows them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import Count, Sum

from rumbrel.core.bench.volumes import bench_volume
from rumbrel.core.delivery.player_view import PlayedTrack, PlayerCheck, is_sound, played_tracks, player_checks
from rumbrel.core.errors import OutputError, TargetError
from rumbrel.core.places import Volume, list_volume
from rumbrel.core.places.file_systems import file_system_for
from rumbrel.core.targets import Target, find_target
from rumbrel.core.verdict import Verdict
from rumbrel.core.workflows.deliver import Fate
from rumbrel.web.batches.rows import facts_text
from rumbrel.web.jobs.models import Job
from rumbrel.web.ui.templatetags.figures import bytes_text

from .models import Delivery, VolumeRow
from .services import facts_on, stand_in_volumes, volume_of

_FINE = (Verdict.PASSED, Verdict.NOT_APPLICABLE)

__all__ = [
    "PlayedRow",
    "VolumeDevice",
    "VolumeView",
    "delivery_lengths",
    "fate_counts",
    "volume_devices",
    "volume_view",
]

_MOST_LENGTHS = 240


@dataclass(frozen=True, slots=True, kw_only=True)
class VolumeDevice:
    """A line of the bench: a volume, what it is, how much is on it, and its state in words."""

    row: VolumeRow
    what: str
    holds: str
    state: str
    is_in: bool
    used_bytes: int = 0
    capacity_bytes: int = 0
    delivery: Delivery | None = None


def volume_devices() -> list[VolumeDevice]:
    rows = [*stand_in_volumes(), *VolumeRow.objects.filter(key="")]
    active = {
        delivery.volume_id: delivery
        for delivery in Delivery.objects.filter(job__state__in=Job.ACTIVE, started=True).select_related("job", "volume")
    }
    unfinished = {
        delivery.volume_id: delivery
        for delivery in Delivery.objects.filter(gone=True, finished_at=None).select_related("job").order_by("pk")
    }
    return [_device(row, active.get(row.pk), unfinished.get(row.pk)) for row in rows]


def _what(row: VolumeRow) -> str:
    system = file_system_for(row.file_system).label
    return f"{bench_volume(row.key).label}, {system}" if row.key else f"{system}, {row.path}"


def _device(row: VolumeRow, active: Delivery | None, unfinished: Delivery | None) -> VolumeDevice:
    try:
        volume = volume_of(row)
    except OutputError as error:
        halted = active or unfinished
        state = f"taken out in the middle of {halted}" if halted else "taken out"
        said = state if row.key else str(error)
        return VolumeDevice(row=row, what=_what(row), holds="–", state=said, is_in=False, delivery=halted)
    holds = f"{bytes_text(volume.used_bytes)} of {bytes_text(volume.capacity_bytes)}"
    filled: dict[str, Any] = {"used_bytes": volume.used_bytes, "capacity_bytes": volume.capacity_bytes}
    if active and active.job:
        state = f"{active.job.step or 'waiting for its turn'}: do not take it out"
        return VolumeDevice(row=row, what=_what(row), holds=holds, state=state, is_in=True, delivery=active, **filled)
    state = "safe to remove"
    target = _target_of(row)
    reads = target.player.file_systems if target else ()
    if target and reads and volume.system.key not in reads:
        state = f"{target.device} does not read {volume.system.label}"
    return VolumeDevice(row=row, what=_what(row), holds=holds, state=state, is_in=True, **filled)


def _target_of(row: VolumeRow) -> Target | None:
    try:
        return find_target(row.target_slug)
    except TargetError:
        return None


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayedRow:
    track: PlayedTrack
    now: str

    @property
    def name(self) -> str:
        return str(self.track.entry.relative.name).encode("utf-8", "replace").decode()


@dataclass(frozen=True, slots=True, kw_only=True)
class VolumeView:
    """A volume that is in, as its player sees it. unread is how many sound files were not read yet; lengths are the
    bytes of its ruler."""

    volume: Volume
    target: Target
    played: tuple[PlayedTrack, ...]
    checks: tuple[PlayerCheck, ...]
    unread: int
    lengths: tuple[tuple[int, str, str, str], ...]
    others: int

    @property
    def wanting(self) -> tuple[PlayerCheck, ...]:
        """The questions that something is to be done about."""
        return tuple(check for check in self.checks if check.verdict not in _FINE)

    @property
    def fine(self) -> tuple[PlayerCheck, ...]:
        """Those that passed, or have nothing to be asked about."""
        return tuple(check for check in self.checks if check.verdict in _FINE)

    @property
    def refused(self) -> tuple[PlayedTrack, ...]:
        return tuple(track for track in self.played if not track.plays)

    @property
    def is_read(self) -> bool:
        """Whether the player reads its file system at all."""
        reads = self.target.player.file_systems
        return not reads or self.volume.system.key in reads

    def rows(self, tracks: Sequence[PlayedTrack]) -> list[PlayedRow]:
        return [PlayedRow(track=track, now=facts_text(track.facts)) for track in tracks]


def volume_view(row: VolumeRow) -> VolumeView:
    """Raises OutputError when it is out, TargetError when its target is gone."""
    volume, target = volume_of(row), find_target(row.target_slug)
    entries = list_volume(volume)
    facts = facts_on(row)
    played = played_tracks(entries, facts, target)
    sound = {track.entry.relative for track in played}
    plays = sum(volume.bytes_taken(track.entry.size_bytes) for track in played if track.plays)
    refused = sum(volume.bytes_taken(track.entry.size_bytes) for track in played if not track.plays)
    rest = max(0, volume.used_bytes - plays - refused)
    lengths = [
        (plays, "plays", "plays", "plays"),
        (refused, "does not play", "does not play", "refused"),
        (rest, "other", "other files", "others"),
    ]
    return VolumeView(
        volume=volume, target=target, played=played, checks=player_checks(volume, entries, played, target),
        unread=sum(1 for entry in entries if is_sound(entry.relative) and entry.relative not in sound),
        lengths=tuple(each for each in lengths if each[0]),
        others=sum(1 for entry in entries if entry.relative not in sound),
    )  # fmt: skip


def fate_counts(delivery: Delivery) -> list[tuple[str, int, int]]:
    """(what is done, on how many lines, bytes that they take) in a fixed order, without what there is none of."""
    found = {
        fate: (count, taken or 0)
        for fate, count, taken in delivery.items.order_by().values_list("fate").annotate(n=Count("pk"), b=Sum("taken_bytes"))
    }  # fmt: skip
    return [(fate, *found[fate]) for fate in Fate if fate in found]


def delivery_lengths(delivery: Delivery) -> list[tuple[int, str, str, str]]:
    """The bytes of a forecast on its volume's ruler: what is there, then what comes, in its order."""
    sums = delivery.sums
    items = list(delivery.items.filter(taken_bytes__gt=0).values_list("taken_bytes", "number", "title"))
    used = max(0, sums.get("capacity_bytes", 0) - sums.get("free_bytes", 0))
    coming = sum(taken for taken, _, _ in items)
    kept = max(0, used + sums.get("needed_bytes", 0) - coming) if items else used
    lengths = [(kept, "on it", "what is on it and stays", "stays")]
    if len(items) <= _MOST_LENGTHS:
        return lengths + [(taken, str(number), title, "comes") for taken, number, title in items]
    each = -(-len(items) // _MOST_LENGTHS)
    groups = [items[start : start + each] for start in range(0, len(items), each)]
    return lengths + [
        (sum(t for t, _, _ in group), "", f"{len(group):,} tracks from {group[0][2]}", "comes") for group in groups
    ]
