"""What a user asks of a batch, as values."""

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path
from typing import Any

from django.conf import settings

from rumbrel.core.forecast import ForecastOptions, WhenPresent
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import Target
from rumbrel.core.workflows.convert import ConvertOptions, LevelWish

__all__ = ["BatchWish", "Choice", "Destination", "DestinationKind"]


class DestinationKind(StrEnum):
    """Where results go: Rumbrel's own folder of results, to their sources, or into a folder that the user names."""

    RESULTS = "results"
    BESIDE = "beside"
    FOLDER = "folder"


@dataclass(frozen=True, slots=True, kw_only=True)
class Destination:
    """folder is for the kind FOLDER alone: a true path below the allowed folders."""

    kind: DestinationKind = DestinationKind.RESULTS
    folder: str = ""

    @property
    def base(self) -> Path:
        """The folder below which all results lie; beside their sources they can be anywhere."""
        if self.kind is DestinationKind.FOLDER:
            return Path(self.folder)
        return settings.RUMBREL.results if self.kind is DestinationKind.RESULTS else Path("/")

    def folders_each(self, targets: Sequence[Target]) -> bool:
        """Whether each target's results get a folder of their own, so that a later batch finds what is there."""
        return self.kind is DestinationKind.RESULTS or (self.kind is DestinationKind.FOLDER and len(targets) > 1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Choice:
    """What a single track has otherwise than its batch: left out of it, or of some of its targets (not_for, by their
    slugs), another target, another name for its result (without ending), other tags in it ("" takes one out), no
    pictures in it (bare), or one that was chosen (cover, a file)."""

    track_id: int
    left_out: bool = False
    not_for: tuple[str, ...] = ()
    target_slug: str = ""
    name: str = ""
    fields: tuple[tuple[str, str], ...] = ()
    bare: bool = False
    cover: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class BatchWish:
    """What the user asks of a batch beside its tracks. pattern "" is each target's own; addition goes between a
    name and its ending; file_system is what names must suit, "" for each target's own. others are the targets that single tracks go to, by their choices. keeps_in_line makes what is
    out of date again (see ForecastOptions)."""

    targets: tuple[Target, ...]
    when_present: WhenPresent = WhenPresent.SKIP
    level: LevelWish = LevelWish()
    destination: Destination = Destination()
    pattern: str = ""
    addition: str = ""
    file_system: str = ""
    trims: bool = False
    choices: tuple[Choice, ...] = ()
    others: tuple[Target, ...] = ()
    keeps_in_line: bool = False

    @property
    def name(self) -> str:
        """The targets as a heading says them."""
        return " and ".join(target.name for target in self.targets)

    @property
    def all_targets(self) -> tuple[Target, ...]:
        return self.targets + self.others

    def folder_of(self, target: Target) -> Path:
        base = self.destination.base
        return base / target.slug if self.destination.folders_each(self.targets) else base

    @property
    def shown_destination(self) -> str:
        """The folder that holds all results, where there is one."""
        if self.destination.kind is DestinationKind.BESIDE:
            return ""
        folders = [str(self.folder_of(target)) for target in self.all_targets]
        return os.path.commonpath(folders)

    def options(self) -> ConvertOptions:
        forecast = ForecastOptions(
            when_present=self.when_present, pattern=self.pattern, name_addition=self.addition, trims=self.trims, file_system=self.file_system,
            beside=self.destination.kind is DestinationKind.BESIDE, keeps_in_line=self.keeps_in_line,
        )  # fmt: skip
        return ConvertOptions(forecast=forecast, level=self.level)

    def as_record(self) -> dict[str, Any]:
        record: dict[str, Any] = as_record(self)
        del record["targets"]
        return record

    @classmethod
    def restored(cls, targets: Sequence[Mapping[str, Any]], record: Mapping[str, Any]) -> "BatchWish":
        return from_record(cls, {**record, "targets": targets})
