"""Compare: an excerpt of a source and of what can be made of it, or was, on one time and at one level."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import soundfile
import soxr
from numpy.typing import NDArray

from rumbrel.core.conversion.carry_out import Watch, carry_out
from rumbrel.core.crew import Death, Tell
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import RumbrelError
from rumbrel.core.files import move_into_place, working_file
from rumbrel.core.forecast import Action, Step, plan_sound
from rumbrel.core.formats.table import format_label
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.fine_picture import FinePictureMaker
from rumbrel.core.sound.level import LevelMeter, as_float
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import mix_matrix
from rumbrel.core.targets import Target

from .crewed import carried_out
from .excerpt import cut_excerpt, plan_excerpt

__all__ = [
    "MOST_VOICES",
    "Excerpt",
    "Voice",
    "VoiceTask",
    "compare_voices",
    "difference_file",
    "picture_file",
    "plain_file",
    "previewed",
    "voice_file",
]

MOST_VOICES = 7
"""A source and six others."""
Sound = NDArray[np.float32]


@dataclass(frozen=True, slots=True, kw_only=True)
class Excerpt:
    """Where in a source, and where its files go."""

    facts: Facts
    start_seconds: float
    seconds: float
    folder: Path

    @property
    def rate(self) -> int:
        """The rate at which all are heard: one that every browser plays."""
        return 44_100 if self.facts.sample_rate % 11_025 == 0 else 48_000

    @property
    def samples(self) -> int:
        return round(self.seconds * self.rate)


@dataclass(frozen=True, slots=True, kw_only=True)
class VoiceTask:
    """A voice of a comparison: the source itself, what a target makes of it, what a step of a batch makes of the whole track
    (with its level, ends and sound), or a result that is there, which begins so many seconds after the source does where
    silence was cut off."""

    number: int
    excerpt: Excerpt
    target: Target | None = None
    step: Step | None = None
    result: Path | None = None
    begins_seconds: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Voice:
    """What was found. size_bytes is that of the whole track so made; difference_db is what differs from the source at
    equal level, against the source, None for the source; gain_db is what brings it to the level of the others."""

    number: int
    format: str = ""
    sample_rate: int = 0
    bit_depth: int | None = None
    channels: int = 0
    bitrate_bps: int = 0
    size_bytes: int = 0
    size_exact: bool = False
    loudness_lufs: float | None = None
    true_peak_dbtp: float | None = None
    difference_db: float | None = None
    gain_db: float = 0.0
    error: str = ""


def voice_file(folder: Path, number: int) -> Path:
    """The excerpt as it is heard: WAV, two channels, 24 bit, all of one comparison equally loud and long."""
    return folder / f"voice-{number}.wav"


def plain_file(folder: Path, number: int) -> Path:
    """The same at the level that it has."""
    return folder / f"plain-{number}.wav"


def picture_file(folder: Path, number: int) -> Path:
    return folder / f"picture-{number}.npz"


def difference_file(folder: Path, number: int) -> Path:
    """The picture of what differs from the source."""
    return folder / f"difference-{number}.npz"


def _heard(facts: Facts, excerpt: Excerpt, skip: int = 0) -> Sound:
    """Decoded, at the excerpt's rate, in two channels, as long as it; skip is what an encoder put before the sound."""
    with open_sound(Path(facts.path), facts.choice()) as sound:
        shape, blocks = sound.shape, [as_float(block).astype(np.float32) for block in sound.blocks()]
    joined = np.concatenate(blocks)[skip:] if blocks else np.zeros((0, shape.channels), np.float32)
    mixed = joined @ mix_matrix(shape.channels, 2, shape.speakers).T.astype(np.float32)
    if shape.sample_rate != excerpt.rate:
        mixed = soxr.resample(mixed, shape.sample_rate, excerpt.rate, quality="VHQ")
    mixed = mixed[: excerpt.samples]
    return np.pad(mixed, ((0, excerpt.samples - len(mixed)), (0, 0))).astype(np.float32)


def _made(task: VoiceTask, target: Target, cut: Facts, tell: Tell) -> tuple[Facts, int]:
    """The excerpt as the target makes it; and how many samples its encoder puts before the sound."""
    step = plan_excerpt(cut, target, task.excerpt.folder / f"made-{task.number}", name="excerpt")
    outcome = carry_out(step, Watch(tell=tell))
    if not (outcome.ok or outcome.partial):
        raise RumbrelError(outcome.error or step.reason)
    return inspect_file(Path(step.output)), encoding_for(step.encoding).leading_samples


_WHOLE_SECONDS, _BEHIND_SECONDS = 600.0, 30.0


def previewed(step: Step, end_seconds: float, folder: Path) -> Step:
    """The very step of a batch, but for where its result goes, so that what is heard is what will be made. Of a long track only
    what lies before end_seconds and a little behind it; not where a ceiling holds for all of it, which may lower the gain."""
    facts, treatment = step.source, step.treatment
    output = str(folder / f"result{Path(step.output).suffix}")
    if facts.duration_seconds > _WHOLE_SECONDS and treatment.ceiling_dbtp is None:
        facts = cut_excerpt(facts, 0.0, end_seconds + _BEHIND_SECONDS)
        if treatment.end_sample is not None and treatment.end_sample > facts.samples:
            treatment = replace(treatment, end_sample=None)
    return replace(step, source=facts, treatment=treatment, output=output, replaces=True, work="")


def _of_step(task: VoiceTask, step: Step, tell: Tell) -> tuple[Facts, Sound, int]:
    """The excerpt of what a step makes; and how large all of that is."""
    excerpt = task.excerpt
    if not step.writes or step.action is Action.COPY or step.action is Action.REWRAP:
        # Its sound is the source's, sample for sample.
        if step.action is Action.REFUSE:
            raise RumbrelError(step.reason)
        return excerpt.facts, _heard(cut_excerpt(excerpt.facts, excerpt.start_seconds, excerpt.seconds), excerpt), 0
    made = previewed(step, excerpt.start_seconds + excerpt.seconds, excerpt.folder / f"made-{task.number}")
    outcome = carry_out(made, Watch(tell=tell))
    if not (outcome.ok or outcome.partial):
        raise RumbrelError(outcome.error or step.reason)
    begins = step.treatment.start_sample / step.source.sample_rate
    facts, sound = _there(Path(made.output), replace(task, begins_seconds=begins))
    return facts, sound, step.after.size_bytes if step.after else 0


def _there(path: Path, task: VoiceTask) -> tuple[Facts, Sound]:
    """The same stretch of a result that is there; what was cut off before its beginning is silence."""
    excerpt, facts = task.excerpt, inspect_file(path)
    if not facts.usable:
        raise RumbrelError(facts.faults[0].text if facts.faults else "There is no sound in this result.")
    start = excerpt.start_seconds - task.begins_seconds
    lead = max(0.0, -start)
    silence = np.zeros((min(excerpt.samples, round(lead * excerpt.rate)), 2), np.float32)
    if lead >= excerpt.seconds or start >= facts.duration_seconds:
        return facts, np.zeros((excerpt.samples, 2), np.float32)
    heard = _heard(cut_excerpt(facts, max(0.0, start), excerpt.seconds - lead), excerpt)
    return facts, np.concatenate([silence, heard])[: excerpt.samples]


def _voice(task: VoiceTask, tell: Tell) -> Voice:
    excerpt = task.excerpt
    cut = cut_excerpt(excerpt.facts, excerpt.start_seconds, excerpt.seconds)
    try:
        source = _heard(cut, excerpt)
        if task.target is not None:
            after = plan_sound(excerpt.facts, task.target, changes_sound=True).after
            facts, skip = _made(task, task.target, cut, tell)
            sound = _heard(facts, excerpt, skip)
            size, exact = (after.size_bytes, after.size_exact) if after else (0, False)
        elif task.step is not None:
            facts, sound, size = _of_step(task, task.step, tell)
            exact = bool(task.step.after and task.step.after.size_exact) or not size
            size = size or excerpt.facts.sound_bytes
        elif task.result is not None:
            facts, sound = _there(task.result, task)
            size, exact = facts.size_bytes, True
        else:
            facts, sound, size, exact = excerpt.facts, source, excerpt.facts.sound_bytes, True
    except RumbrelError as error:
        return Voice(number=task.number, error=str(error))
    level = _pictured(sound, excerpt, picture_file(excerpt.folder, task.number))
    difference = None
    if sound is not source:
        rest = _rest(sound, source, mono=facts.channels == 1)
        _pictured(rest, excerpt, difference_file(excerpt.folder, task.number))
        difference = _ratio_db(rest, source)
    np.save(excerpt.folder / f"voice-{task.number}.npy", sound)
    return Voice(
        number=task.number, format=format_label(facts.container, facts.codec), sample_rate=facts.sample_rate,
        bit_depth=facts.bit_depth, channels=facts.channels, bitrate_bps=facts.bitrate_bps, size_bytes=size,
        size_exact=exact, difference_db=difference, loudness_lufs=_finite(level[0]), true_peak_dbtp=_finite(level[1]),
    )  # fmt: skip


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _rest(sound: Sound, source: Sound, *, mono: bool) -> Sound:
    """What is left of a voice when the source is taken out of it at equal level; a mono voice is held against the
    source's mean."""
    wanted = np.repeat(source.mean(axis=1, keepdims=True), 2, axis=1) if mono else source
    power = float(np.vdot(sound, sound))
    gain = float(np.vdot(sound, wanted)) / power if power else 0.0
    return np.asarray(sound * np.float32(gain) - wanted, dtype=np.float32)


def _ratio_db(rest: Sound, source: Sound) -> float | None:
    """None where both are silent, or nothing differs."""
    loud, left = float(np.vdot(source, source)), float(np.vdot(rest, rest))
    return 10 * math.log10(left / loud) if loud > 0 and left > 0 else None


def _pictured(sound: Sound, excerpt: Excerpt, path: Path) -> tuple[float, float]:
    """Save the picture; (loudness in LUFS, true peak in dBTP)."""
    shape = SoundShape(sample_rate=excerpt.rate, channels=2, depth_bits=0)
    maker, meter = FinePictureMaker(shape, len(sound)), LevelMeter(shape)
    for start in range(0, len(sound), excerpt.rate):
        maker.push(sound[start : start + excerpt.rate])
        meter.push(sound[start : start + excerpt.rate])
    level = meter.level()
    maker.picture(meter.short_term_lufs()).save(path)
    return level.integrated_lufs, level.true_peak_dbtp


def _lost(task: VoiceTask, death: Death) -> Voice:
    return Voice(number=task.number, error=f"Making it ended the worker {death.tries} times. Try again.")


def compare_voices(tasks: Sequence[VoiceTask], *, jobs: int) -> Iterator[Voice | Progress]:
    """Yield Progress while the voices are made on all cores; then each voice, in the order of its number, when all
    can be heard at one level. Closing the iterator stops the work."""
    excerpt = tasks[0].excerpt
    excerpt.folder.mkdir(parents=True, exist_ok=True)
    voices: list[Voice] = []
    for event in carried_out(
        _voice, tasks, jobs=jobs, weigh=lambda task: excerpt.seconds, unit=Unit.SECONDS, step="making", lost=_lost
    ):
        if isinstance(event, Voice):
            voices.append(event)
        else:
            yield event
    # Down to the quietest: nothing is lifted, so that nothing clips.
    known = [voice.loudness_lufs for voice in voices if voice.loudness_lufs is not None]
    for voice in sorted(voices, key=lambda voice: voice.number):
        gain = min(known) - voice.loudness_lufs if voice.loudness_lufs is not None else 0.0
        if not voice.error:
            _write_voice(excerpt, voice.number, gain)
        yield replace(voice, gain_db=gain)


def _write_voice(excerpt: Excerpt, number: int, gain_db: float) -> None:
    kept = excerpt.folder / f"voice-{number}.npy"
    as_it_is = np.load(kept)
    for path, factor in (
        (voice_file(excerpt.folder, number), 10 ** (gain_db / 20)),
        (plain_file(excerpt.folder, number), 1),
    ):
        with working_file(path) as working:
            sound = np.clip(as_it_is * np.float32(factor), -1, 1)
            soundfile.write(working, sound, excerpt.rate, subtype="PCM_24", format="WAV")
            move_into_place(working, path, replaces=True)
    kept.unlink()
