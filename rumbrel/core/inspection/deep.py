"""What one decode of the whole file tells: level, faults of the recording, damage, a digest, a picture."""

import hashlib
import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from rumbrel.core.containers.flac import stream_info
from rumbrel.core.errors import DecodeError, ReadersDiffer
from rumbrel.core.records import as_record
from rumbrel.core.sound.analysis import Ends, EndsFinder, SpectralEdge, State, StateMeter
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.fine_picture import FinePictureMaker
from rumbrel.core.sound.level import Level, LevelMeter, as_float
from rumbrel.core.sound.loss import LossFinder, LossTrace
from rumbrel.core.sound.picture import Picture, PictureMaker
from rumbrel.core.sound.second_reader import open_twice_read
from rumbrel.core.sound.shape import Block, tamed

from .facts import Facts, Fault, FaultCode
from .peaks import LOUDEST_KEPT_DB, peak_fault

__all__ = ["DeepFacts", "inspect_deep"]


@dataclass(frozen=True, slots=True, kw_only=True)
class DeepFacts:
    """facts with the faults that only decoding shows; the rest is None where nothing decodes.

    digest is XXH3 of the samples, the same for every lossless copy whatever its container.
    loss is what proves that a lossless file was made from a lossy one. damaged_at are the places of damaged packets, in samples.
    """

    facts: Facts
    decoded_samples: int = 0
    level: Level | None = None
    ends: Ends | None = None
    state: State | None = None
    picture: Picture | None = None
    loss: LossTrace | None = None
    digest: str = ""
    damaged_packets: int = 0
    damaged_at: tuple[int, ...] = ()

    def as_record(self) -> dict[str, Any]:
        """The field `deep` of `inspect --deep --json`; levels of silence are null."""
        if self.level is None or self.ends is None or self.state is None or self.picture is None:
            return {"decoded_samples": 0, "damaged_packets": self.damaged_packets}
        edge = self.state.edge
        return {
            "decoded_samples": self.decoded_samples,
            "integrated_lufs": _finite(self.level.integrated_lufs),
            "loudness_range_lu": _finite(self.level.range_lu),
            "true_peak_dbtp": _finite(self.level.true_peak_dbtp),
            "sample_peak_dbfs": _finite(self.level.sample_peak_dbfs),
            "clipped_runs": self.state.clipped_runs,
            "leading_silence_samples": self.ends.leading_samples,
            "trailing_silence_samples": self.ends.trailing_samples,
            "channels": self.state.channels_text,
            "used_bits": self.state.used_bits,
            "spectral_edge_hz": edge.frequency_hz if edge else None,
            "upsampled_from_hz": edge.upsampled_from_hz if edge else None,
            "loss": as_record(self.loss) if self.loss else None,
            "digest": self.digest,
            "damaged_packets": self.damaged_packets,
            "damaged_at": list(self.damaged_at),
            "picture": {
                "lows": list(self.picture.lows),
                "highs": list(self.picture.highs),
                "spectrogram": [list(row) for row in self.picture.spectrogram],
                "band_edges_hz": list(self.picture.band_edges_hz),
            },
        }


def _finite(value: float) -> float | None:
    return None if math.isinf(value) else round(value, 2)


def inspect_deep(
    facts: Facts, *, progress: Callable[[float], None] = lambda share: None, picture_file: Path | None = None
) -> DeepFacts:
    """Decode a file whose Facts are known. Never raises for a faulty file: what is wrong stands in the facts.

    A fine picture of the sound goes into picture_file where that is given; raises OutputError where it cannot.
    """
    if not facts.usable:
        return DeepFacts(facts=facts)
    try:
        return _decoded(facts, progress, picture_file)
    except ReadersDiffer as error:
        return DeepFacts(facts=_with(facts, FaultCode.READERS_DIFFER, str(error)))
    except DecodeError as error:
        return DeepFacts(facts=_with(facts, FaultCode.UNREADABLE, str(error)))


def _with(facts: Facts, code: FaultCode, text: str) -> Facts:
    return replace(facts, faults=(*facts.faults, Fault(code=code, text=text)))


class _StoredDigest:
    """MD5 of the samples as FLAC's STREAMINFO states it (RFC 9639, 8.2): packed little-endian at their depth."""

    def __init__(self, facts: Facts) -> None:
        self._wanted = _stored_md5(Path(facts.path)) if facts.container == "flac" and facts.stretch is None else b""
        self._depth = facts.bit_depth or 16
        self._md5 = hashlib.md5(usedforsecurity=False)

    def push(self, block: Block) -> None:
        """Left-justified samples are put to the right and packed into as many bytes as their depth takes."""
        count = (self._depth + 7) // 8
        if not self._wanted or block.dtype.kind != "i" or count > block.dtype.itemsize:
            self._wanted = b""
            return
        right = np.ascontiguousarray(
            block >> (block.dtype.itemsize * 8 - self._depth), dtype=f"<i{block.dtype.itemsize}"
        )
        packed = right.view(np.uint8).reshape(-1, block.dtype.itemsize)[:, :count]
        self._md5.update(np.ascontiguousarray(packed).data)

    @property
    def differs(self) -> bool:
        return bool(self._wanted) and self._md5.digest() != self._wanted


def _stored_md5(path: Path) -> bytes:
    with path.open("rb") as file:
        info = stream_info(file.read(42))
    return info.md5 if info is not None and any(info.md5) else b""


def _decoded(facts: Facts, progress: Callable[[float], None], picture_file: Path | None) -> DeepFacts:
    with open_twice_read(Path(facts.path), facts.choice(), facts.samples) as sound:
        level, ends, state = LevelMeter(sound.shape), EndsFinder(), StateMeter(sound.shape)
        picture, digest, stored = PictureMaker(sound.shape, facts.samples), SampleDigest(32), _StoredDigest(facts)
        fine = FinePictureMaker(sound.shape, facts.samples) if picture_file else None
        finder = LossFinder(sound.shape, facts.samples) if facts.lossless else None
        of_values: tuple[Any, ...] = (level, ends, picture, *([finder] if finder else []))
        of_samples: tuple[Any, ...] = (state, stored, *([fine] if fine else []))
        not_numbers = 0
        for block in sound.blocks():
            digest.push(block)
            block, wrong = tamed(block)
            not_numbers += wrong
            for sink in of_samples:
                sink.push(block)
            unit = as_float(block)
            for sink in of_values:
                sink.push(unit)
            progress(min(1.0, digest.samples / max(1, facts.samples)))
        damaged, places = sound.damaged_packets, tuple(sound.damaged_at)
    if fine and picture_file:
        fine.picture(level.short_term_lufs()).save(picture_file)
    found = DeepFacts(
        facts=facts,
        decoded_samples=digest.samples,
        level=level.level(),
        ends=ends.ends(),
        state=state.state(),
        picture=picture.picture(),
        loss=finder.trace() if finder else None,
        digest=digest.hexdigest(),
        damaged_packets=damaged,
        damaged_at=places,
    )
    facts = _judged(found, stored.differs)
    if not_numbers:
        values = "1 value is no number" if not_numbers == 1 else f"{not_numbers:,} values are no numbers"
        facts = _with(facts, FaultCode.DAMAGED, f"{values}, or infinite. Make the file again where it came from.")
    return replace(found, facts=facts)


def _clock(samples: int, rate: int) -> str:
    seconds = samples / rate
    return f"{int(seconds) // 60}:{seconds % 60:04.1f}"


def _judged(found: DeepFacts, digest_differs: bool) -> Facts:
    """Faults that only decoding shows."""
    facts = found.facts
    if found.damaged_packets:
        # Said again with the places, where the quick look has found them too.
        kept = tuple(fault for fault in facts.faults if fault.code is not FaultCode.DAMAGED)
        facts = replace(facts, faults=kept)
        places = ", ".join(_clock(at, facts.sample_rate) for at in found.damaged_at[:5])
        frames = "1 damaged frame" if found.damaged_packets == 1 else f"{found.damaged_packets} damaged frames"
        text = f"{frames}, the first at {places}. The rest can be used; copy it again."
        facts = _with(facts, FaultCode.DAMAGED, text)
    elif digest_differs:
        text = "The samples differ from the digest that their maker stored in the file. Copy it again."
        facts = _with(facts, FaultCode.DAMAGED, text)
    elif found.decoded_samples < facts.samples and all(p.code is not FaultCode.CUT_SHORT for p in facts.faults):
        text = f"Only {found.decoded_samples:,} of {facts.samples:,} samples decode. Copy it again."
        facts = _with(facts, FaultCode.CUT_SHORT, text)
    over_db = found.level.sample_peak_dbfs if found.level else -math.inf
    if over_db > LOUDEST_KEPT_DB:
        kept = tuple(fault for fault in facts.faults if fault.code is not FaultCode.BEYOND_FULL_SCALE)
        facts = replace(facts, faults=(*kept, peak_fault(over_db)))
    edge = found.state.edge if found.state else None
    if facts.lossless and found.loss:
        facts = _with(facts, FaultCode.DOUBTFUL_LOSSLESS, _loss_said(found.loss, edge))
    elif facts.lossless and edge and edge.upsampled_from_hz:
        text = (
            f"The sound ends sharply at {edge.frequency_hz / 1000:.1f} kHz: the rate seems to have been raised from "
            f"{edge.upsampled_from_hz / 1000:g} kHz. Look for an earlier copy."
        )
        facts = _with(facts, FaultCode.DOUBTFUL_LOSSLESS, text)
    return facts


def _loss_said(loss: LossTrace, edge: SpectralEdge | None) -> str:
    """A steep end of the spectrum alone accuses nobody: every good rate converter leaves one."""
    places = ", ".join(_clock(round(place * loss.sample_rate), loss.sample_rate) for place in loss.places[:3])
    ends = f" Its spectrum ends at {edge.frequency_hz / 1000:.1f} kHz." if edge else ""
    return (
        f"Made from a lossy file: the frames of {loss.coding} are still in the sound, every {loss.hop} samples, at {places} "
        f"({loss.score:.0f} standard deviations beyond chance).{ends} Look for an earlier copy."
    )
