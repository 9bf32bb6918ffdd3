"""The screens in the head of every page: each app adds its own."""

from dataclasses import dataclass

__all__ = ["Entry", "add_entry", "entries", "holder_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """address is the name of the screen's own; below it are the names of the pages that belong to it,
    as "app:name" or "app:" for all of an app."""

    order: int
    address: str
    label: str
    below: tuple[str, ...] = ()

    def names(self, view_name: str) -> bool:
        """Whether it has the page by its own name."""
        return view_name == self.address or view_name in self.below

    def has_app_of(self, view_name: str) -> bool:
        return any(name.endswith(":") and view_name.startswith(name) for name in self.below)


_ENTRIES: list[Entry] = []


def add_entry(entry: Entry) -> None:
    if entry not in _ENTRIES:
        _ENTRIES.append(entry)


def entries() -> tuple[Entry, ...]:
    return tuple(sorted(_ENTRIES, key=lambda entry: entry.order))


def holder_of(view_name: str) -> Entry | None:
    """The screen that a page belongs to: the one that names it, else the one that has all of its app."""
    named = (entry for entry in entries() if entry.names(view_name))
    by_app = (entry for entry in entries() if entry.has_app_of(view_name))
    return next(named, None) or next(by_app, None)
