"""Figures in sentences."""

__all__ = ["figure"]


def figure(value: float | None, spec: str = ".1f") -> str:
    """As format() has it, with a true minus (U+2212); a dash where there is none."""
    return "–" if value is None else format(value, spec).replace("-", "−")
