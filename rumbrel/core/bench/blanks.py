"""Blanks in the stand-in recorder's tray."""

from dataclasses import dataclass, replace
from enum import StrEnum

from rumbrel.core.disc.media import Medium
from rumbrel.core.errors import DiscError

__all__ = ["Blank", "BlankState"]


class BlankState(StrEnum):
    BLANK = "blank"
    WRITTEN = "written"
    SPOILED = "spoiled"


@dataclass(frozen=True, slots=True, kw_only=True)
class Blank:
    """A disc of some medium. Written and spoiled ones are final, unless the medium is rewritable."""

    medium: Medium
    state: BlankState = BlankState.BLANK

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
            raise DiscError(f"A {self.medium.label} cannot be erased.")
        return replace(self, state=BlankState.BLANK)

    def after(self, state: BlankState) -> "Blank":
        return replace(self, state=state)
