"""What the demo prepares."""

from .prepare_demo import prepare_demo

__all__ = ["prepare_demo"]
