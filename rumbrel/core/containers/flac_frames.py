"""The last frame of a FLAC file (RFC 9639): enough to know that nothing is missing at the end."""

from functools import cache

import numpy as np
from numpy.typing import NDArray

__all__ = ["crc16", "last_frame_end"]

_CRC8_POLYNOMIAL, _CRC16_POLYNOMIAL = 0x07, 0x8005


def _crc_table(polynomial: int, bits: int) -> list[int]:
    table = []
    for byte in range(256):
        crc = byte << (bits - 8)
        for _ in range(8):
            crc = crc << 1 ^ (polynomial if crc >> (bits - 1) & 1 else 0)
        table.append(crc & ((1 << bits) - 1))
    return table


_CRC8 = _crc_table(_CRC8_POLYNOMIAL, 8)
_CRC16 = np.array(_crc_table(_CRC16_POLYNOMIAL, 16), dtype=np.uint16)


@cache
def _shifted(level: int) -> NDArray[np.uint16]:
    """What becomes of each checksum when 2**level zero bytes follow it."""
    if level == 0:
        every = np.arange(65_536, dtype=np.uint32)
        return np.asarray((every << 8 & 0xFFFF) ^ _CRC16[every >> 8], dtype=np.uint16)
    half = _shifted(level - 1)
    return np.asarray(half[half])


@cache
def _pairs() -> NDArray[np.uint16]:
    """The checksum of each pair of bytes, by the number they make in this machine's order."""
    first, second = np.arange(65_536, dtype=np.uint16).view(np.uint8).reshape(-1, 2).T
    return np.asarray(_shifted(0)[_CRC16[first]] ^ _CRC16[second])


_FEW = 48
"""So many are joined one after another sooner than by look-ups over arrays."""


@cache
def _steps(level: int) -> list[int]:
    return _shifted(level).tolist()  # type: ignore[no-any-return]


def crc16(data: bytes) -> int:
    """CRC-16 with polynomial 0x8005 and start 0 (RFC 9639, 9.3).

    The checksum is linear, so neighbours are joined in pairs, pairs of pairs and so on: a few
    table look-ups over whole arrays instead of one a byte. Leading zeros change nothing.
    """
    even = data if len(data) % 2 == 0 else b"\0" + data
    crc = _pairs().take(np.frombuffer(even, dtype=np.uint16))
    level = 1
    while len(crc) > _FEW:
        odd = len(crc) % 2
        joined = _shifted(level).take(crc[odd::2])
        joined ^= crc[odd + 1 :: 2]
        crc = np.concatenate((crc[:1], joined)) if odd else joined
        level += 1
    whole, step = 0, _steps(level)
    for part in crc.tolist():
        whole = step[whole] ^ part
    return whole


_BLOCK_SIZES = {1: 192, **{code: 576 << (code - 2) for code in range(2, 6)},
                **{code: 256 << (code - 8) for code in range(8, 16)}}  # fmt: skip
_RATE_BYTES = {12: 1, 13: 2, 14: 2}


def _coded_number(data: bytes, at: int) -> tuple[int, int] | None:
    """(number, bytes taken) of the frame or sample number, coded as UTF-8 codes characters."""
    if at >= len(data):
        return None
    first = data[at]
    if first < 0x80:
        return first, 1
    length = next((count for count in range(2, 8) if first >> (7 - count) & 1 == 0), None)
    if length is None or length == 1 or first < 0xC0 or at + length > len(data):
        return None
    number = first & ((1 << (7 - length)) - 1) if length < 7 else 0
    for byte in data[at + 1 : at + length]:
        if byte & 0xC0 != 0x80:
            return None
        number = number << 6 | byte & 0x3F
    return number, length


def _frame_end(data: bytes, at: int, fixed_block_samples: int) -> int | None:
    """Sample number after the frame whose header begins at an offset; None where there is no header."""
    if at + 6 > len(data) or data[at] != 0xFF or data[at + 1] & 0xFE != 0xF8:
        return None
    coded = _coded_number(data, at + 4)
    size_code, rate_code = data[at + 2] >> 4, data[at + 2] & 15
    if coded is None or size_code == 0 or rate_code == 15:
        return None
    number, taken = coded
    offset = at + 4 + taken
    if size_code in (6, 7):
        count = size_code - 5
        samples = int.from_bytes(data[offset : offset + count], "big") + 1
        offset += count
    else:
        samples = _BLOCK_SIZES[size_code]
    offset += _RATE_BYTES.get(rate_code, 0)
    if offset >= len(data):
        return None
    crc = 0
    for byte in data[at:offset]:
        crc = _CRC8[crc ^ byte]
    if crc != data[offset]:
        return None
    variable = data[at + 1] & 1
    return (number if variable else number * fixed_block_samples) + samples


def last_frame_end(tail: bytes, fixed_block_samples: int) -> int | None:
    """Sample number after the last whole frame, when the file's last bytes end in one, else None.

    The header's second byte tells streams of fixed blocks from those of variable ones (RFC 9639, 9.1).
    """
    mark = b"\xff\xf8" if fixed_block_samples else b"\xff\xf9"
    at = len(tail)
    while (at := tail.rfind(mark, 0, at + 1)) != -1:
        end = _frame_end(tail, at, fixed_block_samples)
        if end is not None and crc16(tail[at:]) == 0:
            return end
    return None
