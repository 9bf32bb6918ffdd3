"""What a file really is: Facts and Problems, taken from the stream and never from the name."""

from .deep import DeepFacts, inspect_deep
from .facts import Facts, Problem, ProblemCode, SoundStream
from .inspect import inspect_file
from .many import inspect_many

__all__ = [
    "DeepFacts",
    "Facts",
    "Problem",
    "ProblemCode",
    "SoundStream",
    "inspect_deep",
    "inspect_file",
    "inspect_many",
]
