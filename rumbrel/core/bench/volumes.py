"""Stand-in volumes: sticks and cards that are folders here, with the rules and the room of real ones."""

import shutil
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import OutputError
from rumbrel.core.files import output_errors
from rumbrel.core.places import FILE_SYSTEMS, VolumeKind, list_volume, volume_at

__all__ = [
    "BENCH_VOLUMES",
    "FORMATS",
    "BenchVolume",
    "bench_volume",
    "come_with",
    "format_volume",
    "lost_by_formatting",
    "plug",
]

_MB, _GB = 1_000_000, 1_000_000_000
FORMATS = tuple(row.key for row in FILE_SYSTEMS if row.key in ("fat32", "exfat", "ntfs"))
"""What a stick or card can be formatted with."""


@dataclass(frozen=True, slots=True, kw_only=True)
class BenchVolume:
    """A stand-in as it comes: what it is, the file system it has then, and how many bytes of another's files lie on
    it. target is the player it is meant for."""

    key: str
    label: str
    name: str
    file_system: str
    capacity_bytes: int
    target: str
    filled_bytes: int = 0

    def kind(self, file_system: str = "") -> VolumeKind:
        return VolumeKind(
            key=self.key, label=self.label, file_system=file_system or self.file_system,
            capacity_bytes=self.capacity_bytes,
        )  # fmt: skip


BENCH_VOLUMES: tuple[BenchVolume, ...] = (
    BenchVolume(key="stick-2gb", label="2 GB stick", name="Tour bus", file_system="fat32", capacity_bytes=2 * _GB,
                target="car-mp3"),
    BenchVolume(key="card-16gb", label="16 GB card", name="Visitor guides", file_system="exfat",
                capacity_bytes=16 * _GB, target="open-opus"),
    BenchVolume(key="stick-64gb", label="64 GB stick", name="Loft stick", file_system="ntfs",
                capacity_bytes=64 * _GB, target="car-mp3"),
    BenchVolume(key="stick-full", label="256 MB stick, nearly full", name="Old notices", file_system="fat32",
                capacity_bytes=256 * _MB, target="car-older", filled_bytes=245 * _MB),
)  # fmt: skip


def bench_volume(key: str) -> BenchVolume:
    """Raises OutputError for a key there is not."""
    for each in BENCH_VOLUMES:
        if each.key == key:
            return each
    raise OutputError(f"There is no stand-in volume '{key}'.")


def _taken_out(root: Path) -> Path:
    """Where a stand-in's folder lies while it is taken out."""
    return root.with_name(f".{root.name}-out")


def plug(root: Path, *, plugged: bool) -> None:
    """Put a stand-in in, or take it out, in whatever state it is. Raises OutputError."""
    here, there = (_taken_out(root), root) if plugged else (root, _taken_out(root))
    with output_errors(root.parent):
        root.parent.mkdir(parents=True, exist_ok=True)
        if here.is_dir() and not there.exists():
            here.rename(there)
        elif plugged:
            root.mkdir(exist_ok=True)


def come_with(root: Path, volume: BenchVolume) -> None:
    """The folder of a stand-in that was never used, with what lies on it when it comes. Raises OutputError."""
    if root.exists() or _taken_out(root).exists():
        return
    with output_errors(root.parent):
        root.mkdir(parents=True)
        if volume.filled_bytes:
            # A file of that length that takes no room here.
            with (root / "Moving pictures of the tower.bin").open("wb") as file:
                file.truncate(volume.filled_bytes)


def lost_by_formatting(root: Path, kind: VolumeKind) -> tuple[Path, ...]:
    """The files that are gone then, relative to the volume. Raises OutputError when it is not there."""
    return tuple(entry.relative for entry in list_volume(volume_at(root, kind)))


def format_volume(root: Path, kind: VolumeKind, *, lost: Sequence[Path]) -> None:
    """Empty a stand-in for another file system. lost is what the user was shown; raises OutputError where something
    else is on it by now, and then nothing is touched."""
    if set(lost_by_formatting(root, kind)) != set(lost):
        raise OutputError("The contents of the volume changed after they were shown. Check the list again.")
    with output_errors(root):
        for entry in list(root.iterdir()):
            if entry.is_dir() and not entry.is_symlink():
                shutil.rmtree(entry)
            else:
                entry.unlink()
