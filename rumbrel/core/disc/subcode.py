"""The P and Q subchannels of an audio disc (IEC 60908, from memory), 96 bytes a sector.

A sector's bytes are the twelve of P, the twelve of Q and zeros for R to W, each channel's bits together.
"""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from .layout import DiscLayout
from .red_book import FIRST_PAUSE_SECTORS, SECTORS_PER_SECOND

__all__ = ["SUBCODE_BYTES", "crc16_rows", "q_crc", "subcode_blocks"]

SUBCODE_BYTES = 96
_SECTORS_A_BLOCK = 4500
_POSITION, _PRODUCT_CODE, _ISRC = 1, 2, 3
_CODE_PERIOD = 100
"""Product code and ISRC each stand in one of every hundred sectors."""


def _crc_table() -> NDArray[np.uint16]:
    table = np.zeros(256, dtype=np.uint16)
    for byte in range(256):
        crc = byte << 8
        for _ in range(8):
            crc = crc << 1 ^ (0x1021 if crc & 0x8000 else 0)
        table[byte] = crc & 0xFFFF
    return table


_TABLE = _crc_table()


def crc16_rows(rows: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """CRC-16 with polynomial 0x1021, start 0, inverted, of each row of an array shaped (rows, bytes)."""
    crc = np.zeros(len(rows), dtype=np.uint16)
    for column in rows.T:
        crc = (crc << np.uint16(8)) ^ _TABLE[(crc >> np.uint16(8)).astype(np.uint8) ^ column]
    return np.asarray(crc ^ np.uint16(0xFFFF))


def q_crc(data: bytes) -> int:
    """The checksum of ten bytes of Q, or of any others."""
    return int(crc16_rows(np.frombuffer(data, dtype=np.uint8)[None, :])[0])


def _bcd(values: NDArray[np.int64]) -> NDArray[np.uint8]:
    return np.asarray(values // 10 * 16 + values % 10, dtype=np.uint8)


def _msf_columns(sectors: NDArray[np.int64]) -> NDArray[np.uint8]:
    seconds, frames = np.divmod(sectors, SECTORS_PER_SECOND)
    minutes, seconds = np.divmod(seconds, 60)
    return np.stack([_bcd(minutes), _bcd(seconds), _bcd(frames)], axis=1)


def _control(pre_emphasis: bool, copy_permitted: bool) -> int:
    return (1 if pre_emphasis else 0) | (2 if copy_permitted else 0)


class _Plan:
    """For every sector of the disc: its track, index, control bits and time within the track."""

    def __init__(self, layout: DiscLayout) -> None:
        total = layout.total_sectors
        self.track = np.ones(total, dtype=np.int64)
        self.index = np.ones(total, dtype=np.int64)
        self.relative = np.zeros(total, dtype=np.int64)
        self.control = np.zeros(total, dtype=np.int64)
        for track in layout.tracks:
            begin, start, end = track.start_sector - track.gap_sectors, track.start_sector, track.end_sector
            self.track[begin:end] = track.number
            self.control[begin:end] = _control(track.programme.pre_emphasis, track.programme.copy_permitted)
            # In the pause before a track its time runs backwards to zero.
            self.index[begin:start] = 0
            self.relative[begin:start] = np.arange(start - begin, 0, -1)
            self.relative[start:end] = np.arange(end - start)
            for number, mark in enumerate(track.index_sectors, 2):
                self.index[mark:end] = number


def _isrc_bytes(isrc: str) -> bytes:
    """Five characters of six bits, two zero bits, seven digits of four, and four zero bits."""
    bits = "".join(f"{ord(sign) - 48:06b}" for sign in isrc[:5]) + "00"
    bits += "".join(f"{int(digit):04b}" for digit in isrc[5:]) + "0000"
    return int(bits, 2).to_bytes(8, "big")


def subcode_blocks(layout: DiscLayout, *, product_code: str = "") -> Iterator[bytes]:
    """The subcode of every sector from address 0 to the lead-out, in blocks of whole sectors."""
    plan = _Plan(layout)
    isrcs = {
        t.number: np.frombuffer(_isrc_bytes(t.programme.isrc), np.uint8) for t in layout.tracks if t.programme.isrc
    }
    for start in range(0, layout.total_sectors, _SECTORS_A_BLOCK):
        at = np.arange(start, min(layout.total_sectors, start + _SECTORS_A_BLOCK))
        rows = np.zeros((len(at), SUBCODE_BYTES), dtype=np.uint8)
        # P marks pauses, and the first sector of a track.
        pause = (plan.index[at] == 0) | ((plan.relative[at] == 0) & (plan.index[at] == 1))
        rows[pause, :12] = 0xFF
        rows[:, 12:22] = _q_rows(plan, at, product_code, isrcs)
        crc = crc16_rows(rows[:, 12:22])
        rows[:, 22], rows[:, 23] = crc >> 8, crc & 0xFF
        yield rows.tobytes()


def _q_rows(
    plan: _Plan, at: NDArray[np.int64], product_code: str, isrcs: dict[int, NDArray[np.uint8]]
) -> NDArray[np.uint8]:
    q = np.zeros((len(at), 10), dtype=np.uint8)
    control = (plan.control[at] << 4).astype(np.uint8)
    q[:, 0] = control | _POSITION
    q[:, 1], q[:, 2] = _bcd(plan.track[at]), _bcd(plan.index[at])
    q[:, 3:6] = _msf_columns(plan.relative[at])
    absolute = at + FIRST_PAUSE_SECTORS
    q[:, 7:10] = _msf_columns(absolute)
    frames = _bcd(absolute % SECTORS_PER_SECOND)
    if product_code:
        chosen = at % _CODE_PERIOD == _CODE_PERIOD // 2
        digits = bytes.fromhex(product_code + "000")
        q[chosen, 0] = control[chosen] | _PRODUCT_CODE
        q[chosen, 1:9] = np.frombuffer(digits, dtype=np.uint8)
        q[chosen, 9] = frames[chosen]
    for number, code in isrcs.items():
        chosen = (at % _CODE_PERIOD == 0) & (plan.track[at] == number) & (plan.index[at] > 0)
        q[chosen, 0] = control[chosen] | _ISRC
        q[chosen, 1:9] = code
        q[chosen, 9] = frames[chosen]
    return q
