"""What the analysis finds of lossy ancestors, and whom it accuses: ./run measure masters."""

import multiprocessing
import os
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.inspection import inspect_deep, inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment, build_chain

from .limits import coded, given, shape_for
from .material import Dice, Sound, any_sound, recorded, recordings
from .proof import dense

SECONDS = 12.0
HONEST, LOSSY_EACH = 1_000, 40
_WAYS = {
    **{f"MP3 {kbps}": ("mp3", 44_100, EncoderSettings(bitrate_kbps=kbps)) for kbps in (96, 128, 192, 256, 320)},
    **{f"AAC {kbps}": ("aac", 44_100, EncoderSettings(bitrate_kbps=kbps)) for kbps in (96, 128, 192, 256, 320)},
    **{f"Vorbis {q}": ("vorbis", 44_100, EncoderSettings(quality=q)) for q in (0.2, 0.4, 0.6, 0.8, 0.9)},
    **{f"Opus {kbps}": ("opus", 48_000, EncoderSettings(bitrate_kbps=kbps)) for kbps in (96, 128, 192, 256)},
}
UP_TO_192 = ("MP3 96", "MP3 128", "MP3 192", "AAC 96", "AAC 128", "AAC 192", "Vorbis 0.2", "Vorbis 0.4", "Vorbis 0.6",
             "Opus 96", "Opus 128", "Opus 192")  # fmt: skip
_HONEST_WAYS = (
    "as it is",
    "96 to 44.1 kHz",
    "96 to 48 kHz",
    "44.1 to 48 kHz",
    "cut at 15 kHz",
    "cut at 16 kHz",
    "24 bit",
    "88.2 kHz",
)


def _accused(sound: Sound, rate: int, subtype: str) -> str:
    """What the analysis of a FLAC of that sound says of its past; "" where nothing."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "a.flac")
        soundfile.write(path, np.clip(sound, -1, 1), rate, subtype=subtype)
        faults = inspect_deep(inspect_file(path)).facts.faults
    return next((fault.text for fault in faults if str(fault.code) == "doubtful-lossless"), "")


def music(seed: int, rate: int) -> Sound:
    """Recorded, where there is any, or everything at once."""
    dice = Dice(seed, rate, 2, SECONDS, lossless=True)
    return recorded(dice) if recordings(True) and seed % 4 else dense(dice)


def lossy_found(case: tuple[str, int]) -> tuple[str, bool]:
    name, seed = case
    key, rate, settings = _WAYS[name]
    encoding = encoding_for(key)
    shape = shape_for(encoding, rate, 2)
    out = coded(encoding, shape, given(music(seed, rate), shape), settings)
    return name, "lossy" in _accused(out, rate, "PCM_16")


def _converted(sound: Sound, rate: int, to: int) -> Sound:
    """By our own chain, as a conversion does it."""
    shape = SoundShape(sample_rate=rate, channels=2, depth_bits=0)
    chain = build_chain(shape, SoundShape(sample_rate=to, channels=2, depth_bits=0), Treatment())
    return np.concatenate([chain.push(sound.astype(np.float32)), *chain.finish()]).astype(np.float64)


def honest_accused(seed: int) -> tuple[int, str, str]:
    """(the seed, what was done to the sound, what the analysis said of it)."""
    way = _HONEST_WAYS[seed % len(_HONEST_WAYS)]
    rate = 96_000 if way.startswith("96") else 88_200 if way == "88.2 kHz" else 44_100
    kind, sound = any_sound(500_000 + seed, rate, 2, SECONDS, lossless=True)
    if " to " in way:
        to = round(float(way.split()[2]) * 1000)
        sound, rate = _converted(sound, rate, to), to
    elif way.startswith("cut"):
        from scipy import signal

        taps = signal.firwin(511, float(way.split()[2]) * 1000, fs=rate)
        sound = signal.fftconvolve(sound, taps[:, None], mode="same", axes=0)
    said = _accused(sound, rate, "PCM_24" if way == "24 bit" or seed % 3 == 0 else "PCM_16")
    # The recordings are of 44.1 kHz: what was made of them at a higher rate is what it is said to be.
    raised = way == "44.1 to 48 kHz" or ("recorded" in kind and rate > 44_100)
    return seed, f"{kind}, {way}", "" if raised and "raised from 44.1 kHz" in said else said


def measure_masters(folder: Path) -> None:
    """Prints how many lossy ancestors are found, by codec and bitrate, and which honest files are accused."""
    print(f"{len(recordings(True))} lossless recordings")
    with multiprocessing.get_context("fork").Pool(os.cpu_count()) as pool:
        found: Counter[str] = Counter()
        for name, hit in pool.imap_unordered(lossy_found, [(n, s) for n in _WAYS for s in range(LOSSY_EACH)]):
            found[name] += hit
        print("| made from | found |\n|---|---|")
        for name in _WAYS:
            print(f"| {name} | {found[name]} of {LOSSY_EACH} |")
        share = sum(found[name] for name in UP_TO_192) / (LOSSY_EACH * len(UP_TO_192))
        print(f"Up to 192 kbit/s: {share:.1%} found (aim 95 %)")
        accused = [each for each in pool.imap_unordered(honest_accused, range(HONEST), chunksize=8) if each[2]]
    print(f"{HONEST} honest files, {len(accused)} accused.")
    for seed, what, said in sorted(accused):
        print(f"accused: seed {seed}, {what}: {said}", flush=True)
