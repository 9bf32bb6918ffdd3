"""Peaks of floating point sound beyond full scale, which whole numbers cannot hold: known before anything is made of it."""

import math
import struct
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.containers.chunks import list_chunks

from .facts import Facts, Fault, FaultCode

__all__ = ["LOUDEST_KEPT_DB", "peak_fault", "with_floating_peak"]

LOUDEST_KEPT_DB = 0.05
"""What is beyond full scale by less is nothing that anybody hears."""
_MOST_READ_BYTES = 64 * 1024 * 1024
"""Longer sound is not read for this while its folder is scanned; what its header states is taken."""
_BLOCK_SAMPLES = 65_536


def with_floating_peak(facts: Facts) -> Facts:
    """Facts of floating point sound with the fault where its peaks go beyond full scale. Raises OSError."""
    if facts.codec != "pcm-float" or not facts.usable or facts.bare is not None:
        return facts
    path = Path(facts.path)
    peak = _read_peak(path) if facts.size_bytes <= _MOST_READ_BYTES else _stated_peak(path)
    if not math.isfinite(peak) or peak <= 10 ** (LOUDEST_KEPT_DB / 20):
        return facts
    return replace(facts, faults=(*facts.faults, peak_fault(20 * math.log10(peak))))


def peak_fault(over_db: float) -> Fault:
    """What is said of peaks that go so far beyond full scale."""
    text = (
        f"Its peaks go {over_db:.1f} dB beyond full scale. Set the level {over_db:.1f} dB lower to keep them where it is "
        "coded in anything but floating point."
    )
    return Fault(code=FaultCode.BEYOND_FULL_SCALE, text=text)


def _read_peak(path: Path) -> float:
    """The largest value of all samples; 0.0 where they cannot be read this way."""
    peak = 0.0
    try:
        for block in soundfile.blocks(path, blocksize=_BLOCK_SAMPLES, dtype="float32"):
            if block.size:
                peak = max(peak, float(np.nanmax(np.abs(block), initial=0.0)))
    except soundfile.LibsndfileError:
        return _stated_peak(path)
    return peak


def _stated_peak(path: Path) -> float:
    """The largest that a PEAK chunk states: version and time, then value and place of each channel (common practice)."""
    with path.open("rb") as file:
        order = ">" if file.read(4) in (b"FORM", b"RIFX") else "<"
        for name, at, length in list_chunks(file):
            if name == b"PEAK" and length >= 16:
                file.seek(at + 8)
                content = file.read(min(length - 8, 8 * 64))
                values = [value for value, _ in struct.iter_unpack(f"{order}fI", content[: len(content) // 8 * 8])]
                return max((value for value in values if math.isfinite(value)), default=0.0)
    return 0.0
