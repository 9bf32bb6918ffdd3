"""Finished files onto a volume, compared there; lists of what a batch made."""

from .lists import FoundList, PlannedList, WrittenList, gather_with_lists, in_folders, plan_lists, relist, write_planned
from .onto_volume import Delivered, put_on_volume, rename_there

__all__ = [
    "Delivered",
    "FoundList",
    "PlannedList",
    "WrittenList",
    "gather_with_lists",
    "in_folders",
    "plan_lists",
    "put_on_volume",
    "relist",
    "rename_there",
    "write_planned",
]
