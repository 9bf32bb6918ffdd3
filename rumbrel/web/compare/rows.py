"""Voices and trials as screens show them."""

from dataclasses import dataclass
from typing import Any

from .models import BlindTest, Comparison

__all__ = ["TrialRow", "VoiceRow", "trial_rows", "voice_rows"]


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
