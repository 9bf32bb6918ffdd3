"""Targets: what a player, device or delivery accepts, and how files are made for it."""

from .catalogue import all_targets, find_target, listed_target
from .fit import Fit, FitKind, fit_to
from .model import Accepts, LevelRule, Recipe, Target

__all__ = [
    "Accepts",
    "Fit",
    "FitKind",
    "LevelRule",
    "Recipe",
    "Target",
    "all_targets",
    "find_target",
    "fit_to",
    "listed_target",
]
