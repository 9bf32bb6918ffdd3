"""Blanks in the stand-in recorder's tray."""

from dataclasses import dataclass, replace
from enum import StrEnum

from rumbrel.core.disc.media import MEDIA, Medium, medium_for
from rumbrel.core.errors import DiscError

__all__ = ["SHELF", "Blank", "BlankState", "ShelfBlank", "shelf_blank"]


class BlankState(StrEnum):
    BLANK = "blank"
    WRITTEN = "written"
    SPOILED = "spoiled"


@dataclass(frozen=True, slots=True, kw_only=True)
class Blank:
    """A disc of some medium. Written and spoiled ones are final, unless the medium is rewritable. One of a bad batch
    fails_above a speed, for certain."""

    medium: Medium
    state: BlankState = BlankState.BLANK
    fails_above: int | None = None

    def check_writable(self) -> None:
        """Raises DiscError saying what to put into the tray instead."""
        if self.state is BlankState.BLANK:
            return
        if self.medium.rewritable:
            raise DiscError(f"The {self.medium.label} in the tray is {self.state}. Erase it, or put in another.")
        raise DiscError(f"The {self.medium.label} in the tray is {self.state}. Put in a blank one.")

    def erased(self) -> "Blank":
        """The same disc blank again. Raises DiscError for one that is written for good."""
        if not self.medium.rewritable:
            raise DiscError(f"The {self.medium.label} cannot be erased: what is written on it stays.")
        return replace(self, state=BlankState.BLANK)

    def after(self, state: BlankState) -> "Blank":
        return replace(self, state=state)


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfBlank:
    """A disc that lies beside the stand-in recorder, of which there are as many as anybody needs."""

    key: str
    label: str
    blank: Blank


SHELF: tuple[ShelfBlank, ...] = (
    *(ShelfBlank(key=medium.key, label=medium.label, blank=Blank(medium=medium)) for medium in MEDIA),
    ShelfBlank(key="80-weak", label="80 minute blank of a bad batch: fails above 16x",
               blank=Blank(medium=medium_for("80"), fails_above=16)),
    ShelfBlank(key="80-written", label="80 minute disc that is written already",
               blank=Blank(medium=medium_for("80"), state=BlankState.WRITTEN)),
    ShelfBlank(key="80rw-written", label="80 minute rewritable that is written already",
               blank=Blank(medium=medium_for("80rw"), state=BlankState.WRITTEN)),
)  # fmt: skip


def shelf_blank(key: str) -> ShelfBlank:
    """The disc of a key. Raises DiscError naming those there are."""
    for each in SHELF:
        if each.key == key:
            return each
    raise DiscError(f"There is no disc '{key}' on the shelf. There are: {', '.join(each.key for each in SHELF)}.")
