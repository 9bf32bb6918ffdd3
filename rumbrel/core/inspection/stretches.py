"""Parts of a file as tracks of their own, stretches of its sound or one of its sounds: facts of the part."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.errors import DecodeError
from rumbrel.core.sound.decoding import Stretch

from .facts import Facts
from .inspect import inspect_file

__all__ = ["Part", "cut_out", "part_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A part of a file, in its samples, and its tags by our names of fields. With a sound it is all of that one of the
    file's sounds."""

    start_sample: int = 0
    end_sample: int = 0
    fields: Mapping[str, tuple[str, ...]]
    sound: int | None = None


def cut_out(facts: Facts, part: Part) -> Facts:
    """Facts of a part of a whole file: its pictures are its own too, its chapters and what its encoder stated are not.
    Raises DecodeError where the part does not lie in the file. One of its sounds is read from the file anew."""
    if part.sound is not None:
        if not 0 <= part.sound < facts.sound_streams:
            raise DecodeError(f"The file no longer has sound number {part.sound + 1}.")
        found = inspect_file(Path(facts.path), sound=str(part.sound + 1))
        return replace(found, one_of_sounds=True, tags=replace(found.tags, fields=dict(part.fields)))
    if not 0 <= part.start_sample < part.end_sample <= facts.samples:
        raise DecodeError(
            f"The part from {part.start_sample / max(1, facts.sample_rate):.2f} s to "
            f"{part.end_sample / max(1, facts.sample_rate):.2f} s does not lie in the file, which is "
            f"{facts.duration_seconds:.2f} s long."
        )
    stretch = Stretch(start_sample=part.start_sample, end_sample=part.end_sample, whole_samples=facts.samples)
    return replace(
        facts, samples=stretch.samples, stated_samples=None, stretch=stretch, delay_samples=None, padding_samples=None,
        tags=replace(facts.tags, fields=dict(part.fields), chapters=()),
    )  # fmt: skip


def part_of(facts: Facts) -> Part | None:
    """What cut facts out of their file; None for those of a whole one."""
    if facts.one_of_sounds:
        return Part(fields=facts.tags.fields, sound=facts.sound_index)
    if facts.stretch is None:
        return None
    stretch = facts.stretch
    return Part(start_sample=stretch.start_sample, end_sample=stretch.end_sample, fields=facts.tags.fields)
