"""Marks of tests."""

from typing import TypeVar

__all__ = ["slow"]

Test = TypeVar("Test")


def slow(test: Test) -> Test:
    """A test or a class of tests of more than two seconds; `./run test fast` leaves it out."""
    test.tags = {*getattr(test, "tags", ()), "slow"}  # type: ignore[attr-defined]
    return test
