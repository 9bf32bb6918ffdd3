"""The one exception tree of the core. Every message is a sentence for the user."""

__all__ = [
    "Cancelled",
    "CheckFailed",
    "DecodeError",
    "DiscError",
    "EncodeError",
    "OutputError",
    "PlaylistError",
    "ReadersDiffer",
    "RumbrelError",
    "TagError",
    "TargetError",
    "WorkersCannotStart",
]


class RumbrelError(Exception):
    """Base of all errors the core raises on purpose; str() is fit to be shown to the user."""


class DecodeError(RumbrelError):
    """A source cannot be opened or decoded."""


class ReadersDiffer(DecodeError):
    """Two decoders find other sound in one file, or the only one finds what no file can hold."""


class EncodeError(RumbrelError):
    """An encoder refused what it was asked for, with the reason."""


class TagError(RumbrelError):
    """Tags or covers cannot be read from or written to a file."""


class TargetError(RumbrelError):
    """A target is unknown or its description is wrong."""


class OutputError(RumbrelError):
    """A destination cannot take a result: no room, no right, or gone."""


class CheckFailed(RumbrelError):
    """A result does not stand up to its check; the file was removed."""


class AboveCeiling(CheckFailed):
    """A coded result has peaks above its ceiling; over_db says by how much."""

    def __init__(self, text: str, over_db: float) -> None:
        super().__init__(text)
        self.over_db = over_db


class PlaylistError(RumbrelError):
    """A list of tracks cannot be read."""


class DiscError(RumbrelError):
    """A disc cannot be laid out, written or read as asked."""


class ImagePresent(DiscError):
    """An image of that name is there already and is kept."""


class Cancelled(RumbrelError):
    """The user stopped the work; nothing half-written is left."""


class WorkersCannotStart(RumbrelError):
    """The processes that do the work end before they begin it: a fault of the installation, not of any file."""
