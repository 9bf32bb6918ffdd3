"""Sizes of AC-3 and E-AC-3 frames (ETSI TS 102 366, 4.4.1 and E.1.3.1)."""

__all__ = ["frame_bytes"]

_SYNC = b"\x0b\x77"
_KBPS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640)
_RATES = (48_000, 44_100, 32_000)
_SAMPLES = 1536
_NEWEST_AC3 = 10
"""Stream identifications up to this are AC-3, those above E-AC-3."""


def frame_bytes(head: bytes) -> int | None:
    """The size that a frame's first six bytes state; None where they are none of a frame."""
    if len(head) < 6 or head[:2] != _SYNC:
        return None
    if head[5] >> 3 > _NEWEST_AC3:
        return ((head[2] & 7) << 8 | head[3]) * 2 + 2
    rate, size = head[4] >> 6, head[4] & 63
    if rate >= len(_RATES) or size >> 1 >= len(_KBPS):
        return None
    words = _KBPS[size >> 1] * 1000 * _SAMPLES // 16 // _RATES[rate]
    # At 44.1 kHz every other size is one word longer.
    return 2 * (words + (size & 1 if rate == 1 else 0))
