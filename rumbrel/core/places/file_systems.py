"""The rules of file systems for names, sizes and clusters."""

import math
from dataclasses import dataclass

from rumbrel.core.errors import OutputError

__all__ = ["FILE_SYSTEMS", "FileSystem", "file_system_for", "whole_clusters"]

_KIB, _MIB, _GIB = 1 << 10, 1 << 20, 1 << 30
_CONTROL = frozenset(chr(code) for code in range(32)) | {"\x7f"}
_FAT_FORBIDDEN = frozenset('"*/:<>?\\|') | _CONTROL
_DEVICE_NAMES = frozenset(
    ["con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))]
)


def whole_clusters(size_bytes: int, cluster_bytes: int) -> int:
    """The bytes of so many whole clusters as hold a size."""
    return -(-size_bytes // cluster_bytes) * cluster_bytes


@dataclass(frozen=True, slots=True, kw_only=True)
class FileSystem:
    """longest_name counts UTF-16 units, or bytes of UTF-8 where counts_bytes. clusters gives the
    cluster size in bytes up to a volume size in bytes; a file takes whole clusters. entries are how many
    entries of its folder every name takes, and how many units of it one more holds."""

    key: str
    label: str
    longest_name: int
    counts_bytes: bool
    forbidden: frozenset[str]
    reserved: frozenset[str]
    trims_end: bool
    basic_plane_only: bool
    largest_file_bytes: int
    deepest_folders: int | None
    clusters: tuple[tuple[float, int], ...]
    entries: tuple[int, int] = (0, 0)

    def name_length(self, name: str) -> int:
        """Length of a name in the unit this file system counts."""
        if self.counts_bytes:
            return len(name.encode("utf-8", "surrogateescape"))
        return len(name.encode("utf-16-le", "surrogatepass")) // 2

    def cluster_bytes(self, volume_bytes: int) -> int:
        return next(size for limit, size in self.clusters if volume_bytes <= limit)

    def bytes_taken(self, file_bytes: int, volume_bytes: int) -> int:
        """What a file takes of the room: whole clusters."""
        return whole_clusters(file_bytes, self.cluster_bytes(volume_bytes))

    def entry_bytes(self, name: str) -> int:
        """What a name takes of its folder, whose entries are 32 bytes each: on FAT32 one and one for every 13 units of
        a long name, on exFAT two and one for every 15 (from memory). 0 where folders are kept otherwise."""
        fixed, units = self.entries
        return 32 * (fixed + math.ceil(self.name_length(name) / units)) if units else 0


FILE_SYSTEMS: tuple[FileSystem, ...] = (
    # What Linux file systems take: 255 bytes, anything but a slash.
    FileSystem(
        key="native", label="this machine's own", longest_name=255, counts_bytes=True,
        forbidden=frozenset("/\0"), reserved=frozenset(), trims_end=False, basic_plane_only=False,
        largest_file_bytes=1 << 62, deepest_folders=None, clusters=((math.inf, 4 * _KIB),),
    ),
    # Long names of FAT32; cluster sizes by volume size are common practice.
    FileSystem(
        key="fat32", label="FAT32", longest_name=255, counts_bytes=False, forbidden=_FAT_FORBIDDEN,
        reserved=_DEVICE_NAMES, trims_end=True, basic_plane_only=False,
        largest_file_bytes=4_294_967_295, deepest_folders=None,
        clusters=((8 * _GIB, 4 * _KIB), (16 * _GIB, 8 * _KIB), (32 * _GIB, 16 * _KIB), (math.inf, 32 * _KIB)),
        entries=(1, 13),
    ),
    FileSystem(
        key="exfat", label="exFAT", longest_name=255, counts_bytes=False, forbidden=_FAT_FORBIDDEN,
        reserved=_DEVICE_NAMES, trims_end=True, basic_plane_only=False,
        largest_file_bytes=1 << 62, deepest_folders=None,
        clusters=((256 * _MIB, 4 * _KIB), (32 * _GIB, 32 * _KIB), (math.inf, 128 * _KIB)),
        entries=(2, 15),
    ),
    # Long names and signs as most programs allow them there (from memory).
    FileSystem(
        key="ntfs", label="NTFS", longest_name=255, counts_bytes=False, forbidden=_FAT_FORBIDDEN,
        reserved=_DEVICE_NAMES, trims_end=True, basic_plane_only=False,
        largest_file_bytes=1 << 62, deepest_folders=None, clusters=((math.inf, 4 * _KIB),),
    ),
    # Joliet: 64 UCS-2 characters, none beyond the basic plane; eight levels as ISO 9660 (from memory).
    FileSystem(
        key="joliet", label="ISO 9660 with Joliet", longest_name=64, counts_bytes=False,
        forbidden=frozenset("*/:;?\\") | _CONTROL, reserved=frozenset(), trims_end=True,
        basic_plane_only=True, largest_file_bytes=4_294_967_295, deepest_folders=8, clusters=((math.inf, 2 * _KIB),),
    ),
)  # fmt: skip

_BY_KEY = {row.key: row for row in FILE_SYSTEMS}


def file_system_for(key: str) -> FileSystem:
    """The file system of a key. Raises OutputError naming the ones there are."""
    if key not in _BY_KEY:
        raise OutputError(f"There is no file system '{key}'. There are: {', '.join(_BY_KEY)}.")
    return _BY_KEY[key]
