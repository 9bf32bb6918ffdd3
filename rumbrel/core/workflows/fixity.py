"""Fixity: whether files are still what they were, told apart by what changed in them."""

import hashlib
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from rumbrel.core.crew import Death, Tell
from rumbrel.core.encoders.rewrap import CodedSound, packets_digest
from rumbrel.core.errors import DecodeError, RumbrelError
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Unit

from .crewed import carried_out

__all__ = [
    "Digests",
    "FixityFinding",
    "FixityState",
    "FixityTask",
    "ManifestError",
    "check_files",
    "digests_of",
    "manifest_line",
    "read_manifest",
]

_PIECE_BYTES = 1 << 20


class FixityState(StrEnum):
    """How a file stands to what was kept of it."""

    KEPT = "kept"
    """Its digests are known from now on."""
    UNCHANGED = "unchanged"
    TAGS = "tags changed"
    """The file is another one, its coded sound is the same."""
    SOUND = "sound changed"
    MISSING = "missing"
    UNREADABLE = "unreadable"
    NOT_COMPARED = "not compared"
    """For a reason outside the file: what was known of it stays as it is."""


class ManifestError(RumbrelError):
    """A list of checksums that cannot be read."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Digests:
    """sha256 of the file's bytes; sound of its coded sound, "" where nothing of that can be read."""

    sha256: str
    sound: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class FixityTask:
    """A file and what was kept of it; known None has its digests kept for the first time."""

    id: int
    facts: Facts
    known: Digests | None


@dataclass(frozen=True, slots=True, kw_only=True)
class FixityFinding:
    """digests is None where the file could not be read; error says why."""

    id: int
    state: FixityState
    digests: Digests | None = None
    error: str = ""


def digests_of(facts: Facts, *, tell: Tell | None = None) -> Digests:
    """Of the file that facts are about, as it is now. Raises OSError."""
    sha256, done, path = hashlib.sha256(), 0, Path(facts.path)
    with path.open("rb") as file:
        while piece := file.read(_PIECE_BYTES):
            sha256.update(piece)
            done += len(piece)
            if tell:
                tell(min(1.0, done / max(1, facts.size_bytes)))
    return Digests(sha256=sha256.hexdigest(), sound=_sound_digest(facts))


def _sound_digest(facts: Facts) -> str:
    if not facts.codec or facts.bare is not None:
        return ""
    sound = CodedSound(path=Path(facts.path), index=facts.sound_index, codec=facts.codec, samples=facts.samples)
    try:
        return packets_digest(sound)
    except (DecodeError, IndexError):
        return ""


def _check(task: FixityTask, tell: Tell) -> FixityFinding:
    try:
        found = digests_of(task.facts, tell=tell)
    except FileNotFoundError:
        return FixityFinding(id=task.id, state=FixityState.MISSING)
    except OSError as error:
        return FixityFinding(id=task.id, state=FixityState.UNREADABLE, error=f"It cannot be read: {error.strerror}.")
    return FixityFinding(id=task.id, state=_judged(task.known, found), digests=found)


def _judged(known: Digests | None, found: Digests) -> FixityState:
    if known is None:
        return FixityState.KEPT
    if known.sha256 == found.sha256:
        return FixityState.UNCHANGED
    return FixityState.TAGS if known.sound and known.sound == found.sound else FixityState.SOUND


def _lost(task: FixityTask, death: Death) -> FixityFinding:
    text = death.text(Path(task.facts.path).name)
    state = FixityState.UNREADABLE if death.crashed else FixityState.NOT_COMPARED
    return FixityFinding(id=task.id, state=state, error=text)


def check_files(tasks: Sequence[FixityTask], *, jobs: int) -> Iterator[FixityFinding | Progress]:
    """Compare files with what was kept of them, with Progress in bytes. Closing the iterator stops the work."""
    return carried_out(
        _check,
        tasks,
        jobs=jobs,
        weigh=lambda task: max(1, task.facts.size_bytes),
        unit=Unit.BYTES,
        step="comparing",
        lost=_lost,
    )


def manifest_line(sha256: str, name: str) -> str:
    """A line of a list of checksums as sha256sum writes and reads it (GNU coreutils manual, 6.6): a name with a line
    end or a backslash has these escaped and the line begins with a backslash."""
    escaped = name.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    mark = "\\" if escaped != name else ""
    return f"{mark}{sha256}  {escaped}\n"


_LINE = re.compile(r"(\\?)([0-9a-fA-F]{64}) [ *](.+)")
_ESCAPED = re.compile(r"\\([\\nr])")


def read_manifest(text: str) -> dict[str, str]:
    """Checksums by names. Empty lines and those that begin with # are passed over. Raises ManifestError."""
    found: dict[str, str] = {}
    for number, line in enumerate(text.split("\n"), 1):
        line = line.rstrip("\r")
        if not line.strip() or line.startswith("#"):
            continue
        match = _LINE.fullmatch(line)
        if match is None:
            raise ManifestError(f"Line {number} is no SHA-256 checksum with a name: {line[:60]}")
        escaped, digest, name = match.groups()
        if escaped:
            name = _ESCAPED.sub(lambda sign: {"\\": "\\", "n": "\n", "r": "\r"}[sign[1]], name)
        found[name.removeprefix("./")] = digest.lower()
    if not found:
        raise ManifestError("There are no checksums in that file.")
    return found
