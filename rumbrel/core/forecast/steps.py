"""The values of a forecast."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from rumbrel.core.encoders.rewrap import Rewrap
from rumbrel.core.formats.table import format_label
from rumbrel.core.inspection.facts import Facts
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment
from rumbrel.core.targets.fit import Fit, FitKind
from rumbrel.core.targets.model import Target

__all__ = ["Action", "After", "Step", "WRITING_ACTIONS", "Warning", "WarningCode", "warning_records"]


class Action(StrEnum):
    COPY = "copy"
    REWRAP = "rewrap"
    CONVERT = "convert"
    SKIP = "skip"
    REFUSE = "refuse"


WRITING_ACTIONS = (Action.COPY, Action.REWRAP, Action.CONVERT)


class WarningCode(StrEnum):
    """Everything a forecast or a result can warn of."""

    LOSSY_TO_LOSSY = "lossy-to-lossy"
    LOSSY_TO_LOSSLESS = "lossy-to-lossless"
    UPSAMPLED = "upsampled"
    RATE_LOWERED = "rate-lowered"
    DEEPER_THAN_SOURCE = "deeper-than-source"
    DEPTH_REDUCED = "depth-reduced"
    BITRATE_ABOVE_SOURCE = "bitrate-above-source"
    CUT_SHORT = "cut-short"
    DAMAGED = "damaged"
    NOT_COMPARED = "not-compared"
    ENCODER_LEAVES = "encoder-leaves"
    MIXED = "mixed"
    CLIPPING = "clipping"
    NAME_CHANGED = "name-changed"
    SAME_NAME = "same-name"
    NO_ROOM = "no-room"
    TAGS_LOST = "tags-lost"
    WRONG_EXTENSION = "wrong-extension"
    MORE_SOUNDS = "more-sounds"
    OTHER_SOUND = "other-sound"
    SPEAKERS = "speakers"
    LENGTH_DIFFERS = "length-differs"
    STALE = "stale"
    CONVERTED_INSTEAD = "converted-instead"
    LEVEL = "level"
    ORIGINAL_GOES = "original-goes"


@dataclass(frozen=True, slots=True, kw_only=True)
class Warning:  # noqa: A001 - the word of the product
    code: WarningCode
    text: str


def warning_records(warnings: Sequence[Warning]) -> list[dict[str, str]]:
    return [{"code": str(warning.code), "text": warning.text} for warning in warnings]


@dataclass(frozen=True, slots=True, kw_only=True)
class After:
    """What the result will be. size_bytes is that of the sound, tags and covers come on top: exact where
    size_exact, else the middle of least_bytes to most_bytes."""

    container: str
    codec: str
    sample_rate: int
    bit_depth: int | None
    channels: int
    samples: int
    bitrate_bps: int
    size_bytes: int
    size_exact: bool
    lossless: bool
    least_bytes: int
    most_bytes: int

    @property
    def format(self) -> str:
        return format_label(self.container, self.codec)

    def as_record(self) -> dict[str, Any]:
        names = ("container", "codec", "sample_rate", "bit_depth", "channels", "samples", "lossless")
        return {name: getattr(self, name) for name in names} | {"bitrate": self.bitrate_bps}


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One source and one target: what will be done with it and where the result goes.

    source_id is the source's in its batch. fit is how the track stands to the target, None where it was
    not looked at. output is "" where nothing is written. replaces says that an older result may be written over.
    encoding is the key of what is written; extra_fields are tags that the work itself yields or the
    user wants of the result alone, where an empty text takes one out; bare
    leaves the pictures out, cover is the file of one that stands in their place. work
    marks target and settings in the ledger of results.
    """

    source: Facts
    target: Target
    action: Action
    reason: str
    source_id: int = -1
    fit: Fit | None = None
    output: str = ""
    replaces: bool = False
    after: After | None = None
    shape: SoundShape | None = None
    encoding: str = ""
    treatment: Treatment = Treatment()
    extra_fields: tuple[tuple[str, str], ...] = ()
    bare: bool = False
    cover: str = ""
    work: str = ""
    warnings: tuple[Warning, ...] = ()

    @property
    def writes(self) -> bool:
        return self.action in WRITING_ACTIONS

    @property
    def changes_tags(self) -> bool:
        """Whether a copy has other tags than its source."""
        return bool(self.extra_fields or self.bare or self.cover)

    @property
    def rewrap(self) -> Rewrap | None:
        """How the sound is repackaged, where that is what is done."""
        return self.fit.rewrap if self.fit is not None and self.action is Action.REWRAP else None

    @property
    def heard_channels(self) -> int:
        """How many channels the track has for its target, whether it is converted or not."""
        if self.fit is not None and self.fit.kind is FitKind.CONVERT and self.fit.shape is not None:
            return self.fit.shape.channels
        return self.shape.channels if self.shape is not None else self.source.channels

    def as_record(self) -> dict[str, Any]:
        return {
            "source": self.source.path,
            "output": self.output or None,
            "target": self.target.slug,
            "action": str(self.action),
            "reason": self.reason,
            "bytes_in": self.source.size_bytes,
            "bytes_after": self.after.size_bytes if self.after else None,
            "size_exact": self.after.size_exact if self.after else None,
            "bytes_range": [self.after.least_bytes, self.after.most_bytes] if self.after else None,
            "after": self.after.as_record() if self.after else None,
            "gain_db": round(self.treatment.gain_db, 2),
            "warnings": warning_records(self.warnings),
        }
