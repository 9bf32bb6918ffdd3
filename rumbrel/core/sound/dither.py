"""The choices of dither, in words."""

__all__ = ["DITHERS", "FLAT", "SHAPED_RATES", "dither_said"]

FLAT = "flat"
DITHERS = {
    FLAT: "flat: even noise",
    "shaped": "shaped: least noise where hearing is most sensitive",
    "none": "none: rounded alone",
}
"""The choices in words; the first is the usual one."""

SHAPED_RATES = (44_100, 48_000)
"""Rates that the filter of the noise was made for."""


def dither_said(dither: str, sample_rate: int) -> str:
    """How sound of a rate is rounded, in words."""
    if dither == "none":
        return "without dither"
    return f"with {dither} dither" if dither == FLAT or sample_rate in SHAPED_RATES else "with flat dither"
