"""What is done with targets."""

from .keep_targets import keep_target, put_back_target, remove_target, target_text
from .make_sample import Sample, make_sample, sample_wave

__all__ = [
    "Sample",
    "keep_target",
    "make_sample",
    "put_back_target",
    "remove_target",
    "sample_wave",
    "target_text",
]
