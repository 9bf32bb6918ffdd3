"""Finished files onto a volume, in playing order, compared there."""

from .deliver import Delivered, DeliveryPlan, deliver, plan_delivery

__all__ = ["Delivered", "DeliveryPlan", "deliver", "plan_delivery"]
