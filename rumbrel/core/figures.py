"""Figures in sentences."""

__all__ = ["figure"]


def figure(value: float, spec: str = ".1f") -> str:
    """As format() has it, with a true minus (U+2212)."""
    return format(value, spec).replace("-", "−")
