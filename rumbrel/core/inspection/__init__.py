"""What a file really is: Facts and Problems, taken from the stream and never from the name."""

from .facts import Facts, Problem, ProblemCode
from .inspect import inspect_file

__all__ = ["Facts", "Problem", "ProblemCode", "inspect_file"]
