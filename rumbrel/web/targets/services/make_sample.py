"""A few seconds of a track as a target would make them, to be heard before anything is decided."""

from dataclasses import dataclass, replace
from pathlib import Path

from django.conf import settings

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import ForecastOptions, Source, WhenPresent, forecast_batch
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.targets import LevelRule, Target
from rumbrel.core.targets.model import NameRule
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id
from rumbrel.web.collection.services import Heard, hear_file, see_that_it_is_there

__all__ = ["Sample", "hear_sample", "make_sample"]

SAMPLE_SECONDS = 20
_MOST_KEPT = 60


@dataclass(frozen=True, slots=True, kw_only=True)
class Sample:
    """A finished sample: its file, its facts, and the bytes and seconds of the part that it was made of."""

    facts: Facts
    source_bytes: int
    seconds: float
    difference_db: float | None = None

    @property
    def path(self) -> Path:
        return Path(self.facts.path)


def make_sample(*, track: Track, target: Target, start_seconds: float) -> Sample:
    """Twenty seconds from a place on, or what there is from there, at the track's own level. Raises RumbrelError."""
    facts = facts_by_id([track.pk]).get(track.pk)
    if facts is None or not facts.usable:
        raise RumbrelError("There is no sound in this track that could be made into a sample.")
    see_that_it_is_there(facts)
    cut = _cut(facts, start_seconds)
    # Names and level are the target's affair, not the sample's.
    plain = replace(target, names=NameRule(), level=LevelRule())
    name = f"{track.pk}-{facts.modified_ns}{cut.part.replace('#', '-')}{Path(facts.path).suffix}"
    source = Source(id=track.pk, path=Path(facts.path), relative=Path(name), part=cut.part)
    options = ForecastOptions(when_present=WhenPresent.REPLACE, rewraps=False)
    folder = _folder() / target.slug
    (step,) = forecast_batch([source], plain, folder, options=options, inspect=lambda path: cut).steps
    # In a process of its own: a file that ends its reader does not end the server.
    outcome = next(event for event in run_steps([step], jobs=1) if isinstance(event, Outcome))
    # What is left of a damaged track can be heard too.
    if not (outcome.ok or outcome.partial):
        raise RumbrelError(outcome.error or step.reason)
    _sweep()
    return Sample(
        facts=inspect_file(Path(step.output)), source_bytes=cut.sound_bytes, seconds=cut.duration_seconds,
        difference_db=outcome.difference_db,
    )  # fmt: skip


def _cut(facts: Facts, start_seconds: float) -> Facts:
    """The part of the file, also where the track is one itself."""
    length = min(facts.samples, SAMPLE_SECONDS * facts.sample_rate)
    start = max(0, min(facts.samples - length, round(start_seconds * facts.sample_rate)))
    fields, begun, whole = facts.tags.fields, 0, facts
    if facts.stretch is not None:
        begun, whole = facts.stretch.start_sample, replace(facts, stretch=None, samples=facts.stretch.whole_samples)
    return cut_out(whole, Part(start_sample=begun + start, end_sample=begun + start + length, fields=fields))


def _folder() -> Path:
    return settings.RUMBREL.listening / "samples"


def _sweep() -> None:
    """The newest are kept."""
    files = sorted((path for path in _folder().glob("*/*") if path.is_file()), key=lambda path: path.stat().st_mtime_ns)
    for path in files[:-_MOST_KEPT]:
        path.unlink(missing_ok=True)


def hear_sample(*, slug: str, name: str) -> Heard:
    """A finished sample, decoded, so that it is what a player would give and every browser plays it. Raises
    RumbrelError where it is not kept any more."""
    path = _folder() / slug / name
    if Path(name).name != name or Path(slug).name != slug or not path.is_file():
        raise RumbrelError("This sample is not kept any more. Make it again.")
    facts = inspect_file(path)
    return hear_file(facts, tag=f"sample-{slug}-{path.stem}-{facts.modified_ns}", decoded=True)
