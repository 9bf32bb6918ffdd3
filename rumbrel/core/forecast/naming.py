"""Names of results: the mirrored tree, endings, and no two results with one name."""

import unicodedata
from pathlib import Path

__all__ = ["NamePool", "fitted_name"]

LONGEST_NAME_BYTES = 255
"""What common file systems take for one name."""


def fitted_name(stem: str, suffix: str, mark: str = "") -> str:
    """stem + mark + suffix, the stem cut on a character's edge so that the name fits."""
    room = LONGEST_NAME_BYTES - len((mark + suffix).encode())
    raw = stem.encode("utf-8", "surrogateescape")
    if len(raw) > room:
        raw = raw[:room]
        while raw and raw[-1] & 0xC0 == 0x80:
            raw = raw[:-1]
        # The cut may have left the first byte of a character whose rest is gone.
        if raw and raw[-1] >= 0xC0:
            raw = raw[:-1]
        stem = raw.decode("utf-8", "surrogateescape").rstrip()
    return f"{stem}{mark}{suffix}"


class NamePool:
    """The names given out so far, compared as a place that ignores case would compare them."""

    def __init__(self) -> None:
        self._taken: set[str] = set()

    @staticmethod
    def _key(path: Path) -> str:
        return unicodedata.normalize("NFC", str(path)).casefold()

    def claim(self, path: Path) -> bool:
        """Take the name; False when another result has it."""
        key = self._key(path)
        if key in self._taken:
            return False
        self._taken.add(key)
        return True

    def claim_numbered(self, path: Path, *, skip_existing: bool) -> Path:
        """The first of 'name', 'name (2)', 'name (3)' that is free; also on the disk if skip_existing."""
        number, candidate = 1, path
        while (skip_existing and candidate.exists()) or not self.claim(candidate):
            number += 1
            candidate = path.with_name(fitted_name(path.stem, path.suffix, f" ({number})"))
        return candidate
