"""What is done with targets."""

from .keep_targets import keep_target, put_back_target, remove_target, target_text
from .make_sample import Sample, hear_sample, make_sample

__all__ = [
    "Sample",
    "hear_sample",
    "keep_target",
    "make_sample",
    "put_back_target",
    "remove_target",
    "target_text",
]
