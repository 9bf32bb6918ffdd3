"""Volumes: sticks and cards as a player sees them, and whether files fit on them."""

import os
import shutil
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import OutputError

from .file_systems import FileSystem, file_system_for, whole_clusters

__all__ = [
    "VOLUME_KINDS",
    "Volume",
    "VolumeEntry",
    "VolumeKind",
    "entries_as_written",
    "list_volume",
    "mounted_kind",
    "volume_at",
    "volume_kind_for",
]

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

_MOUNTED_AS = {
    "vfat": "fat32", "msdos": "fat32", "exfat": "exfat", "ntfs": "ntfs", "ntfs3": "ntfs", "fuseblk": "ntfs",
}  # fmt: skip
"""How Linux calls the file systems of sticks and cards, and ours for them; fuseblk is what drivers outside the kernel
are called, which sticks with NTFS commonly use (common practice)."""


def volume_kind_for(key: str) -> VolumeKind:
    """The kind of a key. Raises OutputError naming the ones there are."""
    for kind in VOLUME_KINDS:
        if kind.key == key:
            return kind
    raise OutputError(f"There is no kind of volume '{key}'. There are: {', '.join(kind.key for kind in VOLUME_KINDS)}.")


def mounted_kind(folder: Path, *, mounts: str | None = None) -> tuple[VolumeKind, Path]:
    """(what the system says of the file system that a folder lies on, where that is mounted). mounts is the text of
    /proc/self/mountinfo, read where it is not given. Raises OutputError."""
    try:
        real = folder.resolve(strict=True)
        text = Path("/proc/self/mountinfo").read_text(errors="surrogateescape") if mounts is None else mounts
    except (OSError, RuntimeError) as error:
        raise OutputError(f"{folder} is not there. Connect it, then continue.") from error
    found, best = "", Path("/")
    for line in text.splitlines():
        before, _, after = line.partition(" - ")
        fields = before.split(" ")
        if len(fields) < 5 or not after:
            continue
        point = Path(_unescaped(fields[4]))
        # Of two mounts on one folder, the later covers the earlier.
        if real.is_relative_to(point) and len(point.parts) >= len(best.parts):
            found, best = after.split(" ")[0], point
    key = _MOUNTED_AS.get(found, "native")
    label = file_system_for(key).label
    return VolumeKind(key=f"mounted-{key}", label=label, file_system=key, capacity_bytes=None), best


def _unescaped(point: str) -> str:
    """Blanks, tabs, line ends and backslashes of a mount point stand there as octal numbers (proc(5))."""
    for code in ("040", "011", "012", "134"):
        point = point.replace(f"\\{code}", chr(int(code, 8)))
    return point


@dataclass(frozen=True, slots=True, kw_only=True)
class Volume:
    """A volume that is there. free_bytes is what its kind or its file system leaves, by whole clusters of
    cluster_bytes; 0 takes those usual for its size. device is the number of the file system that its folder lay on."""

    root: Path
    kind: VolumeKind
    system: FileSystem
    capacity_bytes: int
    free_bytes: int
    cluster_bytes: int = 0
    device: int = 0

    @property
    def is_stand_in(self) -> bool:
        return self.kind.capacity_bytes is not None

    @property
    def is_there(self) -> bool:
        """Not when it was taken out: then its folder is gone, or empty and on the file system below."""
        try:
            return self.root.is_dir() and self.device in (0, self.root.stat().st_dev)
        except OSError:
            return False

    def bytes_taken(self, file_bytes: int) -> int:
        return whole_clusters(file_bytes, self.cluster_bytes or self.system.cluster_bytes(self.capacity_bytes))

    def folder_bytes(self, names: Iterable[str]) -> int:
        """What a folder takes itself that holds entries of these names; a folder is never less than a cluster."""
        return max(self.bytes_taken(1), self.bytes_taken(sum(self.system.entry_bytes(name) for name in names) + 64))

    @property
    def used_bytes(self) -> int:
        return max(0, self.capacity_bytes - self.free_bytes)


@dataclass(frozen=True, slots=True, kw_only=True)
class VolumeEntry:
    """A file on a volume: relative to its root, and the how-manieth entry of its folder it is, as they were written."""

    relative: Path
    size_bytes: int
    modified_ns: int
    written: int


def entries_as_written(folder: Path, volume: Volume) -> list["os.DirEntry[str]"]:
    """As the folder's own entries follow each other, without links and hidden ones. FAT keeps them in that order, and the
    system lists them so (common practice); a stand-in lies on a file system that does not, there each was last named at
    its change time. Raises OSError."""
    with os.scandir(folder) as found:
        entries = [entry for entry in found if not entry.is_symlink() and not entry.name.startswith(".")]
    if volume.is_stand_in:
        entries.sort(key=lambda entry: (entry.stat(follow_symlinks=False).st_ctime_ns, entry.name))
    return entries


def list_volume(volume: Volume) -> tuple[VolumeEntry, ...]:
    """Every file, in the order in which a player walks that follows the entries: the files of a folder, then its
    folders one after the other (common practice). Links and hidden entries are passed over. Raises OutputError."""
    try:
        return tuple(_walked(volume, volume.root))
    except OSError as error:
        raise OutputError(f"The volume {volume.root} cannot be read: {error.strerror}. Connect it again.") from error


def _walked(volume: Volume, folder: Path) -> Iterator[VolumeEntry]:
    entries = entries_as_written(folder, volume)
    for number, entry in enumerate(entries):
        if entry.is_file(follow_symlinks=False):
            status = entry.stat(follow_symlinks=False)
            yield VolumeEntry(
                relative=Path(entry.path).relative_to(volume.root), size_bytes=status.st_size,
                modified_ns=status.st_mtime_ns, written=number,
            )  # fmt: skip
    for entry in entries:
        if entry.is_dir(follow_symlinks=False):
            yield from _walked(volume, Path(entry.path))


def volume_at(root: Path, kind: VolumeKind) -> Volume:
    """Look at a volume. Raises OutputError when it is not there."""
    if not root.is_dir():
        raise OutputError(f"The volume {root} is not there. Connect it, then continue.")
    system = file_system_for(kind.file_system)
    usage = shutil.disk_usage(root)
    if kind.capacity_bytes is None:
        # Only of those whose clusters are the system's blocks.
        cluster = os.statvfs(root).f_bsize if system.entries[1] else 0
        return Volume(
            root=root, kind=kind, system=system, capacity_bytes=usage.total, free_bytes=usage.free,
            cluster_bytes=cluster if kind.key.startswith("mounted-") else 0, device=root.stat().st_dev,
        )  # fmt: skip
    free = min(usage.free, max(0, kind.capacity_bytes - _used_bytes(root, system, kind.capacity_bytes)))
    return Volume(
        root=root, kind=kind, system=system, capacity_bytes=kind.capacity_bytes, free_bytes=free,
        device=root.stat().st_dev,
    )  # fmt: skip


def _used_bytes(root: Path, system: FileSystem, capacity_bytes: int) -> int:
    """What the files of a stand-in take, and its folders; the first cluster of its root comes with formatting."""
    bare = Volume(root=root, kind=VOLUME_KINDS[0], system=system, capacity_bytes=capacity_bytes, free_bytes=0)
    used = -bare.bytes_taken(1)
    for folder, folders, names in os.walk(root):
        used += bare.folder_bytes([*folders, *names])
        for name in names:
            try:
                used += bare.bytes_taken(os.lstat(os.path.join(folder, name)).st_size)
            except FileNotFoundError:
                # A working file got its name meanwhile.
                continue
    return used
