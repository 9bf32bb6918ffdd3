"""Why tags could not be written: a disk that takes no more is another matter than tags that the file cannot take."""

from pathlib import Path

import av.error

from rumbrel.core.errors import OutputError, RumbrelError, TagError
from rumbrel.core.files import not_written, refusal_reason, refused_by_system
from rumbrel.core.reasons import is_systems, why_failed

__all__ = ["tags_not_written"]


def tags_not_written(working: Path, error: BaseException) -> RumbrelError:
    """What to raise of a library's error: OutputError where the system refused it, after which the working file is of no
    use; else TagError."""
    refused = refused_by_system(error)
    if refused is not None:
        return OutputError(f"Not written: {refusal_reason(working.parent, refused)}.")
    if isinstance(error, av.error.FFmpegError):
        return not_written(working, why_failed(error)) if is_systems(error) else _by_file(why_failed(error))
    return _by_file(str(error))


def _by_file(why: str) -> TagError:
    return TagError(f"The tags could not be written: {why}.")
