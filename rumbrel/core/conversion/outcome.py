"""What became of a Step."""

from dataclasses import dataclass, replace
from typing import Any

from rumbrel.core.forecast.steps import Step, Warning, warning_records
from rumbrel.core.sound.likeness import Likeness

__all__ = ["Outcome"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """ok says that all of the source's sound is in a checked result, or that nothing was to be done.

    samples_in and samples_out count sampling instants of source and result. partial says that only a part
    of the source could be saved: ok is False then, and the result is there. digest is that of the
    samples where result and source are equal to the bit, else "". difference_db is what differs between a
    lossy result and its source, against the source; None where it was not compared that way. compared_samples of it were
    held against the source; sha256 is that of the result's file, and identical_file says that it is its source's, byte by
    byte; read_by says which decoders read both; worst_seconds is where it is furthest from it, from the beginning of the result. work_seconds is the time
    that it took a worker, 0.0 where that is not known. undecided says that a check was kept from its end by something
    outside the files, so that nothing is known of the result; may_pass that the work failed for a reason outside the
    source, or that the source was not there as it was foreseen: another try may come to something.
    """

    step: Step
    ok: bool
    bytes_out: int = 0
    samples_in: int = 0
    samples_out: int = 0
    checked: bool = False
    digest: str = ""
    error: str = ""
    partial: bool = False
    bitrate_bps: int = 0
    difference_db: float | None = None
    compared_samples: int = 0
    worst_seconds: float | None = None
    read_by: str = ""
    sha256: str = ""
    identical_file: bool = False
    warnings: tuple[Warning, ...] = ()
    work_seconds: float = 0.0
    undecided: bool = False
    may_pass: bool = False

    def with_likeness(self, likeness: Likeness | None) -> "Outcome":
        """What comparing the result with its source told."""
        if likeness is None:
            return self
        return replace(
            self, difference_db=likeness.difference_db, compared_samples=likeness.compared_samples,
            worst_seconds=round(likeness.worst.start_seconds, 2) if likeness.worst else None,
        )  # fmt: skip

    def as_record(self) -> dict[str, Any]:
        """The fields of `convert --json`, in its order."""
        step = self.step
        return {
            "source": step.source.path,
            "output": step.output or None,
            "target": step.target.slug,
            "action": str(step.action),
            "reason": step.reason,
            "ok": self.ok,
            "bytes_in": step.source.sound_bytes,
            "bytes_out": self.bytes_out,
            "samples_in": self.samples_in,
            "samples_out": self.samples_out,
            "checked": self.checked,
            "digest": self.digest or None,
            "sha256": self.sha256 or None,
            "identical_file": self.identical_file,
            "difference_db": self.difference_db,
            "compared_samples": self.compared_samples,
            "worst_seconds": self.worst_seconds,
            "read_by": self.read_by or None,
            "error": self.error or None,
            "warnings": warning_records(self.warnings),
        }
