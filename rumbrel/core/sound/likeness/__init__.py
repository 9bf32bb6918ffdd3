"""How like its source a lossily coded sound is, over its whole length."""

from .comparing import Comparison, Likeness, Place
from .limits import Coding, Limits, limits_for

__all__ = ["Coding", "Comparison", "Likeness", "Limits", "Place", "limits_for"]
