"""A few seconds of a track as a target would make them, to be heard before anything is decided."""

from dataclasses import dataclass
from pathlib import Path

from django.conf import settings

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.errors import RumbrelError
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.targets import Target
from rumbrel.core.workflows.excerpt import cut_excerpt, plan_excerpt
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
    latest = max(0.0, facts.duration_seconds - SAMPLE_SECONDS)
    cut = cut_excerpt(facts, min(start_seconds, latest), SAMPLE_SECONDS)
    name = f"{track.pk}-{facts.modified_ns}{cut.part.replace('#', '-')}"
    step = plan_excerpt(cut, target, _folder() / target.slug, name=name)
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


def _folder() -> Path:
    return settings.RUMBREL.listening / "samples"


def _sweep() -> None:
    """The newest are kept."""
    files = sorted((path for path in _folder().glob("*/*") if path.is_file()), key=lambda path: path.stat().st_mtime_ns)
    for path in files[:-_MOST_KEPT]:
        path.unlink(missing_ok=True)


def hear_sample(*, slug: str, name: str) -> Heard:
    """A finished sample, decoded, so that it is what a player would give and every browser plays it. Raises
    RumbrelError where it is no longer kept."""
    path = _folder() / slug / name
    if Path(name).name != name or Path(slug).name != slug or not path.is_file():
        raise RumbrelError("This sample is no longer kept. Make it again.")
    facts = inspect_file(path)
    return hear_file(facts, tag=f"sample-{slug}-{path.stem}-{facts.modified_ns}", decoded=True)
