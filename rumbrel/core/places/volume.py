"""Volumes: sticks and cards as a player sees them, and whether files fit on them."""

import os
import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import OutputError

from .file_systems import FileSystem, file_system_for

__all__ = ["VOLUME_KINDS", "Volume", "VolumeKind", "volume_at", "volume_kind_for"]

_GB = 1_000_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class VolumeKind:
    """capacity_bytes is None where the folder's own file system says how much room there is."""

    key: str
    label: str
    file_system: str
    capacity_bytes: int | None


VOLUME_KINDS: tuple[VolumeKind, ...] = (
    VolumeKind(key="folder", label="a folder", file_system="native", capacity_bytes=None),
    VolumeKind(key="stick-fat32", label="a stick with FAT32", file_system="fat32", capacity_bytes=None),
    VolumeKind(key="stick-exfat", label="a stick with exFAT", file_system="exfat", capacity_bytes=None),
    VolumeKind(key="card-2gb", label="a 2 GB card", file_system="fat32", capacity_bytes=2 * _GB),
    VolumeKind(key="stick-8gb", label="an 8 GB stick", file_system="fat32", capacity_bytes=8 * _GB),
    VolumeKind(key="stick-32gb", label="a 32 GB stick", file_system="fat32", capacity_bytes=32 * _GB),
    VolumeKind(key="card-64gb", label="a 64 GB card", file_system="exfat", capacity_bytes=64 * _GB),
)


def volume_kind_for(key: str) -> VolumeKind:
    """The kind of a key. Raises OutputError naming the ones there are."""
    for kind in VOLUME_KINDS:
        if kind.key == key:
            return kind
    raise OutputError(f"There is no kind of volume '{key}'. There are: {', '.join(kind.key for kind in VOLUME_KINDS)}.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Volume:
    """A volume that is there. free_bytes is what its kind or its file system leaves, by whole clusters."""

    root: Path
    kind: VolumeKind
    system: FileSystem
    capacity_bytes: int
    free_bytes: int

    def bytes_taken(self, file_bytes: int) -> int:
        return self.system.bytes_taken(file_bytes, self.capacity_bytes)

    def room_needed(self, sizes: Sequence[int]) -> int:
        """What files of these sizes take: whole clusters each."""
        return sum(self.bytes_taken(size) for size in sizes)


def volume_at(root: Path, kind: VolumeKind) -> Volume:
    """Look at a volume. Raises OutputError when it is not there."""
    if not root.is_dir():
        raise OutputError(f"The volume {root} is not there. Connect it, then continue.")
    system = file_system_for(kind.file_system)
    usage = shutil.disk_usage(root)
    if kind.capacity_bytes is None:
        return Volume(root=root, kind=kind, system=system, capacity_bytes=usage.total, free_bytes=usage.free)
    used = sum(
        system.bytes_taken(os.lstat(os.path.join(folder, name)).st_size, kind.capacity_bytes)
        for folder, _, names in os.walk(root)
        for name in names
    )
    free = min(usage.free, max(0, kind.capacity_bytes - used))
    return Volume(root=root, kind=kind, system=system, capacity_bytes=kind.capacity_bytes, free_bytes=free)
