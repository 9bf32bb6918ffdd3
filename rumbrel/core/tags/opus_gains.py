"""Gains in Opus (RFC 7845, 5.2.1): whole numbers of 1/256 dB towards -23 LUFS, beside which no other gain fields count."""

import re

__all__ = ["FROM_R128", "R128_FIELDS", "gain_text", "r128_gain"]

R128_FIELDS = {"track_gain": "R128_TRACK_GAIN", "album_gain": "R128_ALBUM_GAIN"}
"""Their names there, by our fields."""
FROM_R128 = {key.lower(): name for name, key in R128_FIELDS.items()}
_REFERENCES_APART_DB = 5.0
"""The other gain fields count towards -18 LUFS (common practice)."""
_STEPS_A_DB = 256
_LEAST, _MOST = -32_768, 32_767


def r128_gain(text: str) -> str | None:
    """A gain such as "-3.00 dB" as Opus states it; None for what is none."""
    match = re.fullmatch(r"\s*([+-]?\d+(?:\.\d+)?)\s*(?:dB)?\s*", text, re.IGNORECASE)
    if match is None:
        return None
    steps = round((float(match[1]) - _REFERENCES_APART_DB) * _STEPS_A_DB)
    return str(min(_MOST, max(_LEAST, steps)))


def gain_text(steps: str) -> str:
    """The other way round. Raises ValueError for what is no whole number of that range."""
    value = int(steps)
    if not _LEAST <= value <= _MOST:
        raise ValueError(f"{steps!r} is out of range")
    return f"{value / _STEPS_A_DB + _REFERENCES_APART_DB:.2f} dB"
