"""The head of ASF files (from memory)."""

from typing import BinaryIO

__all__ = ["stated_size"]

_FILE_PROPERTIES = bytes.fromhex("a1dcab8c47a9cf118ee400c00c205365")
_HEAD_BYTES = 4096


def stated_size(file: BinaryIO) -> int | None:
    """The file's size in its file properties object, behind the object's name, size and a name of the file."""
    file.seek(0)
    head = file.read(_HEAD_BYTES)
    at = head.find(_FILE_PROPERTIES)
    return int.from_bytes(head[at + 40 : at + 48], "little") or None if at != -1 else None
