"""What the proof of lossy results finds and what it lets pass: ./run measure proof.

Two matrices. Results of wrong sound, made by the encoder of each target from a source that was tampered with, are held
against the honest source as `--verify-only` does. Honest conversions of sound of every kind go through the whole pipeline.
Seeds and sounds are others than those of the table of limits.
"""

import multiprocessing
import os
import tempfile
from collections import Counter, defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache, partial
from pathlib import Path

import numpy as np
import soundfile
from scipy import signal

from rumbrel.core.conversion import Outcome, carry_out, verify_step
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.forecast import Action, Step, WarningCode, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.sound.stages import Treatment, build_chain
from rumbrel.core.targets import Target, find_target
from rumbrel.core.targets.parsing import parse_target

from . import material
from .material import Dice, Sound, any_sound, recordings

RATE, SECONDS = 44_100, 8.0
TARGETS = (
    "car-mp3", "small-player", "average-mp3", "variable-mp3", "pocket-aac", "open-opus", "open-vorbis", "table-radio-wma",
)  # fmt: skip
HONEST = 2_000
_MORE_TARGETS = (
    "card-folders", "speech-small", "course", "radio-mp3", "television", "phone-ulaw", "phone-alaw", "phone-vox",
)  # fmt: skip
_MADE_TARGETS = {
    "mp3-64": ("mp3", '["mp3"]', 'encoding = "mp3"\nmode = "constant"\nbitrate_kbps = 64'),
    "mp3-256": ("mp3", '["mp3"]', 'encoding = "mp3"\nmode = "constant"\nbitrate_kbps = 256'),
    "aac-96": ("aac", '["m4a"]', 'encoding = "aac"\nbitrate_kbps = 96'),
    "aac-320": ("aac", '["m4a"]', 'encoding = "aac"\nbitrate_kbps = 320'),
    "opus-64": ("opus", '["ogg"]', 'encoding = "opus"\nbitrate_kbps = 64'),
    "opus-256": ("opus", '["ogg"]', 'encoding = "opus"\nbitrate_kbps = 256'),
    "vorbis-0": ("vorbis", '["ogg"]', 'encoding = "vorbis"\nquality = 0.2'),
    "wma-64": ("wma", '["asf"]', 'encoding = "wma"\nbitrate_kbps = 64'),
}
_SOURCE_RATES = (8_000, 11_025, 16_000, 22_050, 32_000, 44_100, 44_100, 44_100, 48_000, 48_000, 88_200, 96_000)
_DEPTHS = ("PCM_16", "PCM_16", "PCM_24", "FLOAT")


def dense(dice: Dice) -> Sound:
    """Everything at once, up to the highest treble."""
    parts = [material.noise(dice), material.drums(dice), material.chords(dice), material.bells(dice)]
    mixed = sum(0.7 * part / max(1e-9, float(np.abs(part).max())) for part in parts)
    return 0.8 * mixed / np.abs(mixed).max()


def _dense_quiet(dice: Dice) -> Sound:
    return 0.003 * dense(dice)


def _two_speak(dice: Dice) -> Sound:
    """Speech of two people, so that its channels differ."""
    sound = material.speech(dice)
    return np.stack([sound[:, 0], np.roll(sound[:, 1], dice.rate // 3) * 0.8], axis=1)


def _wide_recording(dice: Dice) -> Sound:
    """A recording whose channels differ, so that mixing them up is a fault."""
    sound = material.recorded(dice)
    while not np.any(sound[:, 0] - sound[:, 1]):
        sound = material.recorded(dice)
    return sound


SOUNDS: dict[str, Callable[[Dice], Sound]] = {
    "dense": dense, "sparse": material.bells, "speech": _two_speak, "very quiet": _dense_quiet,
    "recorded": _wide_recording,
}  # fmt: skip


@lru_cache(maxsize=8)
def sound_of(kind: str) -> Sound:
    return SOUNDS[kind](Dice(10 + list(SOUNDS).index(kind), RATE, 2, SECONDS))


@lru_cache(maxsize=1)
def _another() -> Sound:
    return material.flute(Dice(99, RATE, 2, SECONDS)) + material.drums(Dice(98, RATE, 2, SECONDS))


def _low_pass(hertz: int, right: Sound) -> Sound:
    return signal.sosfiltfilt(signal.butter(8, hertz, fs=RATE, output="sos"), right, axis=0)


def _last_of_another(right: Sound) -> Sound:
    other, start = _another()[: len(right)], int(len(right) * 0.83)
    return np.concatenate([right[:start], other[start:] * np.sqrt((right**2).mean() / (other**2).mean())])


def _backwards(right: Sound) -> Sound:
    copy, start, length = right.copy(), int(len(right) * 0.4), len(right) // 10
    copy[start : start + length] = right[start : start + length][::-1]
    return copy


def _mutes(right: Sound) -> Sound:
    copy = right.copy()
    for share in (0.2, 0.5, 0.77):
        copy[int(len(right) * share) : int(len(right) * share) + int(0.3 * RATE)] = 0
    return copy


def _bursts(right: Sound) -> Sound:
    copy, noise, level = right.copy(), np.random.default_rng(3), float(np.sqrt((right**2).mean()))
    for share in (0.15, 0.45, 0.8):
        start, length = int(len(right) * share), RATE // 10
        copy[start : start + length] += level * noise.standard_normal((length, 2))
    return copy


def _hum(right: Sound) -> Sound:
    """17 dB below the sound."""
    hum = np.sin(2 * np.pi * 50 * np.arange(len(right)) / RATE)
    return right + 0.2 * float(np.sqrt((right**2).mean())) * hum[:, None]


def _wandering(right: Sound) -> Sound:
    return right * 10 ** (3 * np.sin(2 * np.pi * np.arange(len(right)) / RATE / 4) / 20)[:, None]


def _dropped(right: Sound) -> Sound:
    start = len(right) // 3
    return np.concatenate([right[:start], right[start + RATE :], np.zeros((RATE, 2))])


def _clipped(right: Sound) -> Sound:
    peak = float(np.abs(right).max())
    return np.clip(right, -peak / 2, peak / 2)


def _faster(right: Sound) -> Sound:
    at = np.arange(len(right))
    return np.stack([np.interp(at * 1.003, at, right[:, side], right=0) for side in (0, 1)], axis=1)


def _channel_mute(right: Sound) -> Sound:
    copy = right.copy()
    copy[RATE : 6 * RATE, 1] = 0
    return copy


SABOTAGES: dict[str, Callable[[Sound], Sound]] = {
    "low-pass 4 kHz": partial(_low_pass, 4000),
    "low-pass 6 kHz": partial(_low_pass, 6000),
    "last sixth of another": _last_of_another,
    "a tenth backwards": _backwards,
    "mutes of 0.3 s": _mutes,
    "noise bursts": _bursts,
    "stereo to mono": lambda right: np.repeat(right.mean(axis=1, keepdims=True), 2, axis=1),
    "left in both": lambda right: np.repeat(right[:, :1], 2, axis=1),
    "hum": _hum,
    "level wanders by 3 dB": _wandering,
    "20 samples later": lambda right: np.concatenate([np.zeros((20, 2)), right[:-20]]),
    "a second dropped": _dropped,
    "clipped": _clipped,
    "0.3 % faster": _faster,
    "inverted": lambda right: -right,
    "swapped": lambda right: right[:, ::-1],
    "a channel mute for 5 s": _channel_mute,
}
"""What a check must not call right."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Case:
    """A tampered result: of a target, a sound and a way of tampering; folder holds what is made for it."""

    target: str
    sound: str
    wrong: str
    folder: Path


def _write_result(step: Step, sound: Sound) -> None:
    """What the target's encoder makes of a sound, at the step's destination."""
    assert step.shape is not None
    encoding = encoding_for(step.encoding)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.wav")
        soundfile.write(path, np.clip(sound, -1, 1), RATE, subtype="PCM_24")
        Path(step.output).parent.mkdir(parents=True, exist_ok=True)
        encoder = encoding.open(Path(step.output), step.shape, step.target.make.settings)
        with open_sound(path, inspect_file(path).choice()) as source:
            chain = build_chain(source.shape, step.shape, Treatment())
            for block in source.blocks():
                encoder.write(chain.push(block))
            for block in chain.finish():
                encoder.write(block)
        encoder.finish()


def tampered_outcome(case: Case) -> tuple[Case, str, str]:
    """(the case, its verdict, what was said)."""
    right = sound_of(case.sound)
    wrong = SABOTAGES[case.wrong](right)
    folder = case.folder / f"{case.target}-{case.sound}-{case.wrong}".replace(" ", "_").replace("%", "")
    folder.mkdir(parents=True)
    source = folder / "source.aiff"
    soundfile.write(source, right, RATE, subtype="PCM_24")
    (step,) = forecast_batch(gather_sources([source]), find_target(case.target), folder / "out").steps
    _write_result(step, wrong)
    outcome = verify_step(step)
    return case, _verdict(outcome), outcome.error or f"difference {outcome.difference_db}"


def _verdict(outcome: Outcome) -> str:
    doubtful = any(warning.code is WarningCode.NOT_COMPARED for warning in outcome.warnings)
    return "failed" if not outcome.ok else "doubtful" if doubtful else "passed"


def _target(name: str) -> Target:
    if name not in _MADE_TARGETS:
        return find_target(name)
    codec, containers, make = _MADE_TARGETS[name]
    rows = f'[[accepts]]\ncodec = "{codec}"\ncontainers = {containers}\n'
    return parse_target(f'name = "Measured {name}"\n{rows}[make]\n{make}\n', slug=f"measured-{name}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Honest:
    """A conversion that nothing is wrong with."""

    seed: int
    target: str
    folder: Path


def honest_outcome(case: Honest) -> tuple[Honest, str, str, str]:
    """(the case, the kind of its sound, its verdict, what was said)."""
    dice = np.random.default_rng(case.seed)
    rate, channels = int(dice.choice(_SOURCE_RATES)), int(dice.choice((1, 2, 2)))
    kind, sound = any_sound(case.seed, rate, channels, float(dice.uniform(1.0, 5.0)))
    subtype = str(dice.choice(_DEPTHS))
    folder = case.folder / str(case.seed)
    folder.mkdir(parents=True)
    source = folder / "source.wav"
    soundfile.write(source, sound if subtype == "FLOAT" else np.clip(sound, -1, 1), rate, subtype=subtype)
    (step,) = forecast_batch(gather_sources([source]), _target(case.target), folder / "out").steps
    if step.action is not Action.CONVERT:
        return case, kind, "passed", ""
    outcome = carry_out(step)
    again = verify_step(step) if outcome.ok else outcome
    if _verdict(again) != "passed":
        outcome = again
    for path in folder.rglob("*"):
        if path.is_file():
            path.unlink()
    said = outcome.error or next((w.text for w in outcome.warnings if w.code is WarningCode.NOT_COMPARED), "")
    return case, f"{kind}, {rate} Hz, {channels} ch, {subtype}", _verdict(outcome), said


def measure_proof(folder: Path) -> None:
    """Prints both matrices, and every miss and false alarm."""
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        _print_tampered(pool, folder / "tampered")
        _print_honest(pool, folder / "honest")


def _print_tampered(pool: "multiprocessing.pool.Pool", folder: Path) -> None:
    kinds, wrongs = list(SOUNDS), list(SABOTAGES)
    cases = [Case(target=t, sound=s, wrong=w, folder=folder) for w in wrongs for t in TARGETS for s in kinds]
    passed: dict[tuple[str, str], Counter[str]] = defaultdict(Counter)
    verdicts: Counter[str] = Counter()
    missed = []
    for case, verdict, said in pool.imap_unordered(tampered_outcome, cases):
        passed[case.wrong, case.target][verdict] += 1
        verdicts[verdict] += 1
        if verdict != "failed":
            missed.append(f"{verdict}: {case.wrong}, {case.target}, {case.sound}: {said}")
    print(f"Wrong results that passed + were doubtful, of {len(kinds)} sounds each ({', '.join(kinds)}):")
    print(f"| what is wrong | {' | '.join(TARGETS)} |\n|---|{'---|' * len(TARGETS)}")
    for wrong in wrongs:
        print(f"| {wrong} | {' | '.join(_counted(passed[wrong, target]) for target in TARGETS)} |")
    print(f"{len(cases)} wrong results: {dict(verdicts)}.")
    print("\n".join(sorted(missed)), flush=True)


def _counted(verdicts: Counter[str]) -> str:
    return f"{verdicts['passed']} + {verdicts['doubtful']}" if verdicts["passed"] or verdicts["doubtful"] else "0"


def _print_honest(pool: "multiprocessing.pool.Pool", folder: Path) -> None:
    names = (*TARGETS, *TARGETS, *_MORE_TARGETS, *_MADE_TARGETS)
    cases = [Honest(seed=seed, target=names[seed % len(names)], folder=folder) for seed in range(HONEST)]
    done: dict[str, Counter[str]] = defaultdict(Counter)
    alarms = []
    for case, kind, verdict, said in pool.imap_unordered(honest_outcome, cases, chunksize=4):
        done[case.target][verdict] += 1
        if verdict != "passed":
            alarms.append(f"{verdict}: seed {case.seed}, {case.target}, {kind}: {said}")
    print(f"\nHonest conversions, with {len(recordings())} recordings among the sounds:")
    print("| target | passed | doubtful | failed |\n|---|---|---|---|")
    for name in dict.fromkeys(names):
        print(f"| {name} | {done[name]['passed']} | {done[name]['doubtful']} | {done[name]['failed']} |")
    print(f"{len(cases)} honest conversions: {dict(sum(done.values(), Counter()))}.")
    print("\n".join(sorted(alarms)), flush=True)
