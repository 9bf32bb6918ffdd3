"""Who asks: the account whose request is being answered or whose job is being done; "" where there are none."""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

__all__ = ["asking", "who_asks"]

_NAME: ContextVar[str] = ContextVar("who_asks", default="")


def who_asks() -> str:
    return _NAME.get()


@contextmanager
def asking(name: str) -> Iterator[None]:
    """While it lasts, somebody of that name asks."""
    token = _NAME.set(name)
    try:
        yield
    finally:
        _NAME.reset(token)
