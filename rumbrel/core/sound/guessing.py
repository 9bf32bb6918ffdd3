"""How likely guessing alone would do as well in a blind test."""

from math import comb

__all__ = ["chance_of_guessing"]


def chance_of_guessing(right: int, trials: int) -> float:
    """The probability, 0.0 to 1.0, of at least so many right answers of two that are equally likely: the upper tail of
    the binomial distribution with p = 1/2 (handbooks of statistics). 1.0 for no trials."""
    return float(sum(comb(trials, count) for count in range(right, trials + 1)) / 2**trials)
