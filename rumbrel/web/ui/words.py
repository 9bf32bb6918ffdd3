"""Words of screens and commands: counts with their nouns, and what enums are called."""

from collections.abc import Sequence

from rumbrel.core.forecast import Action, WhenPresent
from rumbrel.core.targets import FitKind, Target

__all__ = ["ACTION_WORDS", "FIT_WORDS", "LEVEL_WORDS", "NBSP", "WHEN_WORDS", "counted", "fit_word", "meanwhile"]

NBSP = "\N{NO-BREAK SPACE}"
"""Between a figure and its unit on a screen, so that the two stay on one line."""

WHEN_WORDS = {WhenPresent.SKIP: "skip", WhenPresent.REPLACE: "replace", WhenPresent.NUMBER: "add a number"}
LEVEL_WORDS = {"none": "unchanged", "track": "tracks equal", "album": "album kept", "tags": "in tags only"}

FIT_WORDS = {
    FitKind.PLAYS: "plays as it is",
    FitKind.REWRAP: "re-wrap",
    FitKind.CONVERT: "convert",
    FitKind.CANNOT: "cannot",
}
ACTION_WORDS = {
    Action.COPY: "plays as it is",
    Action.REWRAP: "re-wrap",
    Action.CONVERT: "convert",
    Action.SKIP: "skip",
    Action.REFUSE: "cannot",
}


def meanwhile(what: str, said: Sequence[str]) -> str:
    """For who changes what another window changed since he saw it; said are those changes, the latest first."""
    changes = f" ({'; '.join(reversed(said))})" if said else ""
    return f"Another window changed this {what} meanwhile{changes}. Nothing is lost: both changes are kept."


def counted(number: int, noun: str, plural: str = "") -> str:
    """A count with its noun: 1 track, 2 tracks, 1,200 bytes."""
    return f"{number:,} {noun if number == 1 else plural or f'{noun}s'}"


def fit_word(kind: FitKind, target: Target) -> str:
    """What a fit is called for a target: a player plays, an archive or a station accepts."""
    return FIT_WORDS[kind].replace("plays", target.verb, 1)
