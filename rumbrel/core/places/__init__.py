"""Places where files go: what their file systems allow in names and sizes."""

from .file_systems import FILE_SYSTEMS, FileSystem, file_system_for
from .names import clean_name, fitted_name

__all__ = ["FILE_SYSTEMS", "FileSystem", "clean_name", "file_system_for", "fitted_name"]
