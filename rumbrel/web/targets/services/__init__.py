"""What is done with targets."""

from .hold_against import HeldFile, carry_out_holding, start_holding
from .keep_targets import (
    keep_target,
    last_version,
    put_back_target,
    remove_target,
    target_text,
    target_versions,
    version_of,
)
from .make_sample import Sample, hear_sample, make_sample

__all__ = [
    "HeldFile",
    "Sample",
    "carry_out_holding",
    "hear_sample",
    "keep_target",
    "make_sample",
    "last_version",
    "put_back_target",
    "remove_target",
    "start_holding",
    "target_text",
    "target_versions",
    "version_of",
]
