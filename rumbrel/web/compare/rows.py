"""Voices and trials as screens show them."""

from dataclasses import dataclass
from typing import Any

from rumbrel.core.sound.guessing import guesses

from .models import BlindTest, Comparison

__all__ = ["GuessBar", "TrialMark", "TrialRow", "VoiceRow", "guess_bars", "trial_marks", "trial_rows", "voice_rows"]


@dataclass(frozen=True, slots=True, kw_only=True)
class VoiceRow:
    """A voice: what it is called, what was found, and its size as a share of the largest."""

    number: int
    label: str
    found: dict[str, Any]
    share: float
    has_difference: bool

    @property
    def key(self) -> int:
        return self.number + 1


def voice_rows(comparison: Comparison) -> list[VoiceRow]:
    largest = max([1, *(found["size_bytes"] for found in comparison.found)])
    return [
        VoiceRow(
            number=found["number"],
            label=comparison.voices[found["number"]]["label"],
            found=found,
            share=found["size_bytes"] / largest,
            has_difference=found["number"] > 0 and not found["error"],
        )
        for found in comparison.found
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialRow:
    number: int
    said: str
    was: str
    right: bool


def trial_rows(test: BlindTest) -> list[TrialRow]:
    """The trials that are over, the newest first."""
    words = {True: "the first", False: "the second"}
    rows = [
        TrialRow(
            number=number, said=words[answer["said_first"]], was=words[answer["one_first"]],
            right=answer["said_first"] == answer["one_first"],
        )
        for number, answer in enumerate(test.answers, 1)
    ]  # fmt: skip
    return rows[::-1]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialMark:
    """A trial on the strip of all of them, 20 units wide each: right, wrong, answered (not told yet), now, or to come."""

    x: int
    state: str


def trial_marks(test: BlindTest) -> list[TrialMark]:
    def state(number: int) -> str:
        if number < len(test.answers):
            answer = test.answers[number]
            right = answer["one_first"] == answer["said_first"]
            return ("right" if right else "wrong") if test.judged else "answered"
        return "now" if number == len(test.answers) else "to come"

    return [TrialMark(x=20 * number, state=state(number)) for number in range(test.trials)]


GUESS_HEIGHT = 72
_GUESS_WIDTH = 360


@dataclass(frozen=True, slots=True, kw_only=True)
class GuessBar:
    """How often guessing has so many right, as a bar of a drawing; is_as_good says that it is no fewer than were."""

    count: int
    x: float
    y: float
    width: float
    height: float
    is_ours: bool
    is_as_good: bool

    @property
    def middle(self) -> float:
        return self.x + self.width / 2


def guess_bars(test: BlindTest) -> list[GuessBar]:
    odds = guesses(test.trials)
    step = _GUESS_WIDTH / len(odds)
    heights = [GUESS_HEIGHT * odd / max(odds) for odd in odds]
    return [
        GuessBar(
            count=count, x=round(step * count + 1, 2), y=round(GUESS_HEIGHT - height, 2), width=round(step - 2, 2),
            height=round(height, 2), is_ours=count == test.right, is_as_good=count >= test.right,
        )
        for count, height in enumerate(heights)
    ]  # fmt: skip
