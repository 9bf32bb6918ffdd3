"""The values that inspection yields."""

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from rumbrel.core.sound.decoding import StreamChoice
from rumbrel.core.tags import EMPTY_TAGS, TagSet

__all__ = ["Facts", "Problem", "ProblemCode"]


class ProblemCode(StrEnum):
    """Every fault inspection can name."""

    MISSING = "missing"
    EMPTY = "empty"
    UNREADABLE = "unreadable"
    NO_SOUND = "no-sound"
    PROTECTED = "protected"
    CUT_SHORT = "cut-short"
    DAMAGED = "damaged"
    WRONG_EXTENSION = "wrong-extension"
    TAGS_UNREADABLE = "tags-unreadable"


_HARMLESS = frozenset({ProblemCode.WRONG_EXTENSION, ProblemCode.TAGS_UNREADABLE})
_SALVAGEABLE = frozenset({ProblemCode.CUT_SHORT, ProblemCode.DAMAGED})


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """A fault with a sentence that says what it is and what to do."""

    code: ProblemCode
    text: str

    @property
    def harmless(self) -> bool:
        """True when all of the sound is there nevertheless."""
        return self.code in _HARMLESS

    @property
    def salvageable(self) -> bool:
        """True when part of the sound is lost and the rest can be used."""
        return self.code in _SALVAGEABLE


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What a file holds. samples counts sampling instants; bitrate is in bits/s of the sound alone.

    A file without usable sound has container "" or codec "" and says why in problems. bit_depth is
    None where the coding has none (lossy codings and floating point).
    """

    path: str
    size_bytes: int = 0
    modified_ns: int = 0
    container: str = ""
    codec: str = ""
    lossless: bool = False
    sample_rate: int = 0
    bit_depth: int | None = None
    channels: int = 0
    samples: int = 0
    stated_samples: int | None = None
    bitrate_bps: int = 0
    bitrate_mode: str = ""
    channel_mode: str = ""
    sound_streams: int = 0
    has_video: bool = False
    tags: TagSet = EMPTY_TAGS
    problems: tuple[Problem, ...] = ()

    @property
    def ok(self) -> bool:
        """True when all of the sound can be used."""
        return all(problem.harmless for problem in self.problems)

    @property
    def usable(self) -> bool:
        """True when some of the sound can be used."""
        return bool(self.samples) and all(p.harmless or p.salvageable for p in self.problems)

    @property
    def duration_seconds(self) -> float:
        return self.samples / self.sample_rate if self.sample_rate else 0.0

    def choice(self) -> StreamChoice:
        """How to open this file's sound. M4A states its padding only as a length, so it is cut to it."""
        states_length = self.container == "m4a" and not self.lossless
        return StreamChoice(
            container=self.container,
            depth_bits=self.bit_depth or 0,
            end_sample=self.samples if states_length else None,
        )

    def as_record(self) -> dict[str, Any]:
        """The fields of `inspect --json`, in its order."""
        return {
            "path": self.path,
            "ok": self.ok,
            "container": self.container,
            "codec": self.codec,
            "lossless": self.lossless,
            "sample_rate": self.sample_rate,
            "bit_depth": self.bit_depth,
            "channels": self.channels,
            "samples": self.samples,
            "duration": round(self.duration_seconds, 6),
            "bitrate": self.bitrate_bps,
            "bitrate_mode": self.bitrate_mode,
            "size": self.size_bytes,
            "channel_mode": self.channel_mode,
            "sound_streams": self.sound_streams,
            "tags": self.tags.as_text(),
            "covers": len(self.tags.covers),
            "problems": [{"code": str(problem.code), "text": problem.text} for problem in self.problems],
        }
