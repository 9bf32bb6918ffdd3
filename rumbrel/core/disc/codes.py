"""Codes on a disc: ISRC (ISO 3901) and the product code (GS1), both from memory."""

import re

from rumbrel.core.errors import DiscError

__all__ = ["check_digit", "parse_isrc", "parse_product_code"]

_ISRC = re.compile(r"[A-Z]{2}[A-Z0-9]{3}\d{2}\d{5}")


def parse_isrc(text: str) -> str:
    """Twelve characters without dashes. Raises DiscError saying what is wrong."""
    code = re.sub(r"[\s-]", "", text).upper()
    if not _ISRC.fullmatch(code) or not code.isascii():
        raise DiscError(
            f"'{text}' is not an ISRC: one has two letters, three letters or digits, two digits of the year and five "
            "digits, as in XA-OSW-24-00001."
        )
    return code


def check_digit(digits: str) -> int:
    """The last digit of a product code from the others: weights 3 and 1 from the right (GS1)."""
    total = sum(int(digit) * (3 if position % 2 == 0 else 1) for position, digit in enumerate(reversed(digits)))
    return -total % 10


def parse_product_code(text: str) -> str:
    """Thirteen digits; one of twelve is one with a leading zero. Raises DiscError saying what is wrong."""
    code = re.sub(r"[\s-]", "", text)
    if not (code.isascii() and code.isdigit()) or len(code) not in (12, 13):
        raise DiscError(f"'{text}' is not a UPC/EAN: one has 13 digits, or 12.")
    code = code.rjust(13, "0")
    wanted = check_digit(code[:12])
    if int(code[12]) != wanted:
        raise DiscError(f"The product code {code} ends in {code[12]}, but its check digit is {wanted}.")
    return code
