"""What guessing alone would come to in a blind test, and how likely it would do as well."""

from math import comb

__all__ = ["chance_of_guessing", "guesses"]


def guesses(trials: int) -> tuple[float, ...]:
    """The probability, 0.0 to 1.0, of each count of right answers, from none to all: the binomial distribution with
    p = 1/2."""
    return tuple(comb(trials, right) / 2**trials for right in range(trials + 1))


def chance_of_guessing(right: int, trials: int) -> float:
    """The probability, 0.0 to 1.0, of at least so many right answers of two that are equally likely: the upper tail of
    the binomial distribution with p = 1/2 (handbooks of statistics). 1.0 for no trials."""
    return float(sum(guesses(trials)[right:]))
