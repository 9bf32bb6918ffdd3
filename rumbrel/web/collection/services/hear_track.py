"""What is sent of a track that is listened to: its file, or its decoded sound."""

import atexit
import os
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from django.conf import settings

from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.errors import RumbrelError
from rumbrel.core.inspection import Facts
from rumbrel.core.workflows.listen import Decoders, Hearing, heard_as_is, hearing_of

from ..models import Track
from ..queries import facts_by_id
from .add_folder import allowed_roots

__all__ = ["Heard", "TrackUnheard", "end_listening", "hear_file", "hear_seam", "hear_track", "see_that_it_is_there"]

_PATIENCE_SECONDS = 20.0
_lock = Lock()
_decoders: dict[Path, Decoders] = {}


class TrackUnheard(RumbrelError):
    """A track that cannot be listened to now."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Heard:
    """read gives bytes from one place up to another, and raises RumbrelError where it cannot."""

    read: Callable[[int, int], bytes]
    total_bytes: int
    media_type: str
    tag: str


def hear_track(*, track: Track, decoded: bool) -> Heard:
    """A track's sound; decoded where the browser could not play the file, or cannot be known to. Raises RumbrelError."""
    facts = facts_by_id([track.pk]).get(track.pk)
    if facts is None:
        raise TrackUnheard("Its facts have not been read yet. Try again when the scan is done.")
    see_that_it_is_there(facts)
    tag = f"{track.pk}-{facts.modified_ns}-{facts.size_bytes}-{facts.sound_index}{facts.part.replace('#', '-')}"
    return hear_file(facts, tag=tag, decoded=decoded)


def hear_file(facts: Facts, *, tag: str, decoded: bool) -> Heard:
    """The sound of a file that is there. tag tells it from every other file and version. Raises RumbrelError."""
    if not decoded and heard_as_is(facts):
        found = hearing_of(facts)
        return Heard(
            read=lambda start, end: _piece(found.path, start, end),
            total_bytes=found.total_bytes, media_type=found.media_type, tag=tag,
        )  # fmt: skip
    decoders = _decoders_of(settings.RUMBREL.listening)
    return _growing(decoders, decoders.hearing(facts, tag), f"{tag}-decoded")


def hear_seam(layout: DiscLayout, *, tag: str) -> Heard:
    """The sound of a short layout whose files are there. tag tells it from every other one."""
    decoders = _decoders_of(settings.RUMBREL.listening)
    return _growing(decoders, decoders.seam(layout, tag), tag)


def _growing(decoders: Decoders, hearing: Hearing, tag: str) -> Heard:
    return Heard(
        read=lambda start, end: decoders.read(hearing, start, end, patience_seconds=_PATIENCE_SECONDS),
        total_bytes=hearing.total_bytes, media_type=hearing.media_type, tag=tag,
    )  # fmt: skip


def _decoders_of(folder: Path) -> Decoders:
    with _lock:
        return _decoders.setdefault(folder, Decoders(folder, kept_bytes=settings.RUMBREL.most_listening_bytes))


def see_that_it_is_there(facts: Facts) -> None:
    """Raises TrackUnheard for a file that is gone, another one, or led out of the allowed folders by a link."""
    path = Path(facts.path)
    try:
        status = os.stat(path)
        inside = any(path.resolve().is_relative_to(root) for root in allowed_roots())
    except OSError as error:
        raise TrackUnheard("The file is not there. Connect its disk, then scan its folder again.") from error
    if not inside:
        raise TrackUnheard("The file lies outside the allowed folders now. Scan its folder again.")
    if (status.st_size, status.st_mtime_ns) != (facts.size_bytes, facts.modified_ns):
        raise TrackUnheard("The file changed since it was scanned. Scan its folder again.")


def _piece(path: Path, start: int, end: int) -> bytes:
    try:
        with path.open("rb") as file:
            file.seek(start)
            piece = file.read(end - start)
    except OSError as error:
        raise TrackUnheard("The file is not there. Connect its disk, then scan its folder again.") from error
    if not piece:
        raise TrackUnheard("The file is shorter than it was when it was scanned. Scan its folder again.")
    return piece


@atexit.register
def end_listening() -> None:
    """Nothing is decoded any longer: with this process, nobody hears it."""
    with _lock:
        for decoders in _decoders.values():
            decoders.close()
