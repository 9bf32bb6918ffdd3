"""Targets: what a player, device or delivery accepts, and how files are made for it."""

from .catalogue import all_targets, find_target
from .fit import Fit, FitKind, fit_to, shape_for
from .model import Accepts, Recipe, Target

__all__ = ["Accepts", "Fit", "FitKind", "Recipe", "Target", "all_targets", "find_target", "fit_to", "shape_for"]
