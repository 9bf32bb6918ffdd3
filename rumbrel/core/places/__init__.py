"""Places where files go: what their file systems and volumes allow in names and sizes."""

from .file_systems import FILE_SYSTEMS, FileSystem, file_system_for
from .names import as_it_lies, clean_name, fitted_name
from .volume import (
    VOLUME_KINDS,
    Volume,
    VolumeEntry,
    VolumeKind,
    entries_as_written,
    list_volume,
    mounted_kind,
    volume_at,
    volume_kind_for,
)

__all__ = [
    "FILE_SYSTEMS",
    "FileSystem",
    "VOLUME_KINDS",
    "Volume",
    "VolumeEntry",
    "VolumeKind",
    "as_it_lies",
    "clean_name",
    "entries_as_written",
    "file_system_for",
    "fitted_name",
    "list_volume",
    "mounted_kind",
    "volume_at",
    "volume_kind_for",
]
