"""Finished files onto a volume, in playing order, compared there; lists of what a batch made."""

from .deliver import Delivered, DeliveryPlan, deliver, plan_delivery
from .lists import FoundList, PlannedList, WrittenList, gather_with_lists, in_folders, plan_lists, write_planned

__all__ = [
    "Delivered",
    "DeliveryPlan",
    "FoundList",
    "PlannedList",
    "WrittenList",
    "deliver",
    "gather_with_lists",
    "in_folders",
    "plan_delivery",
    "plan_lists",
    "write_planned",
]
