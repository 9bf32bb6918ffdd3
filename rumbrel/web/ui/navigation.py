"""The screens in the head of every page: each app adds its own."""

from dataclasses import dataclass

__all__ = ["Entry", "add_entry", "entries"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """address is the name of the screen's own; below it are the names of the pages that belong to it,
    as "app:name" or "app:" for all of an app."""

    order: int
    address: str
    label: str
    below: tuple[str, ...] = ()

    def holds(self, view_name: str) -> bool:
        return view_name == self.address or any(
            view_name == name or (name.endswith(":") and view_name.startswith(name)) for name in self.below
        )


_ENTRIES: list[Entry] = []


def add_entry(entry: Entry) -> None:
    if entry not in _ENTRIES:
        _ENTRIES.append(entry)


def entries() -> tuple[Entry, ...]:
    return tuple(sorted(_ENTRIES, key=lambda entry: entry.order))
