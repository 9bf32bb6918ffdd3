"""What accounts may do, and which role each view needs: apps say so of theirs when they are ready."""

from enum import IntEnum

__all__ = ["Role", "needed_role", "needs"]


class Role(IntEnum):
    """Each may do what the one before may."""

    LISTEN = 1
    WORK = 2
    ADMINISTER = 3

    @property
    def said(self) -> str:
        return self.name.lower()


_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
_NEEDED: dict[str, Role] = {}


def needs(role: Role, *views: str) -> None:
    """Have views, as "app:name", need a role whatever is asked of them."""
    _NEEDED.update(dict.fromkeys(views, role))


def needed_role(view: str, method: str) -> Role:
    """What nothing was said of is shown to everybody, and changed by who may work."""
    return _NEEDED.get(view, Role.LISTEN if method in _SAFE else Role.WORK)
