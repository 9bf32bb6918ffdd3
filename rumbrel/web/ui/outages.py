"""What hinders Rumbrel itself: its database or a disk, in words for the user."""

import errno
from pathlib import Path

from django.db import OperationalError

from rumbrel.core.files import refusal_reason

__all__ = ["database_reason", "outage_reason"]

_DISKS = (errno.ENOSPC, errno.EDQUOT, errno.EROFS)


def database_reason(error: OperationalError) -> str:
    """A sentence with what to do."""
    said = str(error)
    if "full" in said:
        return "There is no room left on the disk that holds Rumbrel's data. Make room, then continue."
    if "locked" in said or "busy" in said:
        return "Another program locked Rumbrel's database for too long. Press Continue."
    return f"Rumbrel's database could not be used ({said}). Fix that, then continue."


def outage_reason(error: BaseException | None) -> str:
    """A sentence with what to do where the database or a disk was in the way; "" for what has other reasons."""
    if isinstance(error, OperationalError):
        return database_reason(error)
    if not isinstance(error, OSError) or error.errno not in _DISKS:
        return ""
    folder = Path(error.filename).parent if isinstance(error.filename, str) else Path("the disk")
    return f"Not written: {refusal_reason(folder, error)}."
