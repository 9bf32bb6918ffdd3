"""Subcode bit by bit (IEC 60908, from memory): every sector's address, the codes' turn, pauses and controls."""

from dataclasses import replace
from unittest import TestCase

import numpy as np
from numpy.typing import NDArray

from rumbrel.core.disc.layout import DiscLayout, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.subcode import q_crc, subcode_blocks
from tests.core.disc.test_layout import programme

CODE = "2904173000523"


def rows_of(layout: DiscLayout, code: str = "") -> NDArray[np.uint8]:
    return np.frombuffer(b"".join(subcode_blocks(layout, product_code=code)), np.uint8).reshape(-1, 96)


def digits(*values: int) -> str:
    return "".join(f"{value:02d}" for value in values)


def msf(sectors: int) -> str:
    return digits(sectors // 4500, sectors // 75 % 60, sectors % 75)


class SubcodeTests(TestCase):
    def setUp(self) -> None:
        first = programme("a", 588 * 5_000)
        second = replace(
            programme("b", 588 * 700), isrc="XAOSW2400019", pre_emphasis=True, copy_permitted=True,
            index_samples=(588 * 300,),
        )  # fmt: skip
        self.layout = lay_out([first, second], gap_sectors=150, medium=medium_for("74"), first_pause_sectors=225)
        self.rows = rows_of(self.layout, CODE)

    def test_the_checksum(self) -> None:
        """0xCE3C is 0x31C3, the check value of CRC-16 with 0x1021 and start 0 over 123456789, inverted
        (Catalogue of parametrised CRC algorithms, from memory)."""
        self.assertEqual(q_crc(b"123456789"), 0x31C3 ^ 0xFFFF)
        for row in self.rows[::97]:
            self.assertEqual(q_crc(bytes(row[12:22])), int.from_bytes(bytes(row[22:24]), "big"))

    def test_every_sector_that_carries_a_position_says_its_own(self) -> None:
        self.assertEqual(len(self.rows), 75 + 5_000 + 150 + 700)
        seen = 0
        for sector, row in enumerate(self.rows):
            if row[12] & 15 != 1:
                continue
            seen += 1
            if sector < 75:
                wanted = "01" + digits(1, 0) + msf(75 - sector)
            elif sector < 5_075:
                wanted = "01" + digits(1, 1) + msf(sector - 75)
            elif sector < 5_225:
                wanted = "31" + digits(2, 0) + msf(5_225 - sector)
            else:
                wanted = "31" + digits(2, 1 if sector < 5_525 else 2) + msf(sector - 5_225)
            self.assertEqual(bytes(row[12:22]).hex(), wanted + "00" + msf(sector + 150), sector)
        self.assertGreaterEqual(seen, len(self.rows) * 9 // 10)  # IEC 60908: at least nine in ten

    def test_each_code_takes_one_of_every_hundred_sectors(self) -> None:
        product = [n for n, row in enumerate(self.rows) if row[12] & 15 == 2]
        recording = [n for n, row in enumerate(self.rows) if row[12] & 15 == 3]
        self.assertEqual(product, list(range(50, len(self.rows), 100)))
        self.assertEqual(recording, list(range(5_300, len(self.rows), 100)))
        self.assertEqual(bytes(self.rows[150][12:22]).hex(), "02" + CODE + "000" + digits(300 % 75))
        row = self.rows[5_300]
        self.assertEqual((row[12] >> 4, row[21]), (3, int(f"{5_450 % 75:02d}", 16)))
        bits = f"{int.from_bytes(bytes(row[13:21]), 'big'):064b}"
        self.assertEqual("".join(chr(int(bits[n * 6 : n * 6 + 6], 2) + 48) for n in range(5)), "XAOSW")
        self.assertEqual((bits[30:32], hex(int(bits[32:60], 2))[2:], bits[60:]), ("00", "2400019", "0000"))
        self.assertEqual({int(row[12]) & 15 for row in rows_of(lay_out([programme("a", 588 * 900)], gap_sectors=0,
                          medium=medium_for("74")))}, {1})  # fmt: skip

    def test_p_marks_pauses_and_the_first_sector_of_each_track(self) -> None:
        marked = {n for n, row in enumerate(self.rows) if row[:12].all()}
        self.assertEqual(marked, {*range(76), *range(5_075, 5_226)})
        self.assertFalse(self.rows[:, 24:].any())
