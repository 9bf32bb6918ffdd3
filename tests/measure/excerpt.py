"""How long it takes until an excerpt can be heard in six settings."""

import time
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.crew import default_jobs
from rumbrel.core.inspection import inspect_file
from rumbrel.core.targets import find_target
from rumbrel.core.targets.ways import made_otherwise
from rumbrel.core.workflows.compare import Excerpt, Voice, VoiceTask, compare_voices

_SETTINGS = (
    ("average-mp3", "mp3-constant-320"), ("average-mp3", "mp3-constant-128"), ("average-mp3", "mp3-q-0.6"),
    ("pocket-aac", "aac-average-128"), ("open-opus", "opus-variable-96"), ("open-vorbis", "vorbis-q-0.5"),
)  # fmt: skip
_TURNS = 3


def measure_excerpt(folder: Path) -> None:
    """Twenty seconds from the middle of three minutes: the first turn starts the workers as well."""
    noise = np.random.default_rng(1).standard_normal((44_100 * 180, 2)) * 0.1
    source = folder / "source.flac"
    soundfile.write(source, noise, 44_100, subtype="PCM_16")
    facts = inspect_file(source)
    for turn in range(_TURNS):
        excerpt = Excerpt(facts=facts, start_seconds=80, seconds=20, folder=folder / str(turn))
        others = [made_otherwise(find_target(slug), key) for slug, key in _SETTINGS]
        tasks = [VoiceTask(number=number, excerpt=excerpt, target=each) for number, each in enumerate([None, *others])]
        begun = time.perf_counter()
        voices = [event for event in compare_voices(tasks, jobs=default_jobs()) if isinstance(event, Voice)]
        took = time.perf_counter() - begun
        wrong = [voice.error for voice in voices if voice.error]
        print(f"An excerpt of 20 s in six settings: {took:.1f} s{f', {wrong}' if wrong else ''}", flush=True)
