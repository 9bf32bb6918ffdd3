"""An excerpt of a track, and what a target would make of it."""

from dataclasses import replace
from pathlib import Path

from rumbrel.core.forecast import ForecastOptions, Source, Step, WhenPresent, forecast_batch
from rumbrel.core.inspection import Facts
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.targets import LevelRule, Target
from rumbrel.core.targets.model import NameRule

__all__ = ["cut_excerpt", "plan_excerpt"]


def cut_excerpt(facts: Facts, start_seconds: float, seconds: float) -> Facts:
    """Facts of what lies between two times, as far as the track reaches; also where it is a part of a file itself."""
    start = max(0, min(facts.samples - 1, round(start_seconds * facts.sample_rate)))
    end = min(facts.samples, start + round(seconds * facts.sample_rate))
    begun, whole = 0, facts
    if facts.stretch is not None:
        begun, whole = facts.stretch.start_sample, replace(facts, stretch=None, samples=facts.stretch.whole_samples)
    return cut_out(whole, Part(start_sample=begun + start, end_sample=begun + end, fields=facts.tags.fields))


def plan_excerpt(cut: Facts, target: Target, folder: Path, *, name: str) -> Step:
    """The step that makes a part as the target would, over an older one of that name. Names and level are the target's
    affair, not the excerpt's."""
    plain = replace(target, names=NameRule(), level=LevelRule())
    source = Source(id=0, path=Path(cut.path), relative=Path(f"{name}{Path(cut.path).suffix}"), part=cut.part)
    options = ForecastOptions(when_present=WhenPresent.REPLACE, rewraps=False)
    (step,) = forecast_batch([source], plain, folder, options=options, inspect=lambda path: cut).steps
    return step
