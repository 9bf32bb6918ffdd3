"""What lies on the bench's shelf: discs, blanks, and sticks that are taken out."""

from collections.abc import Sequence
from dataclasses import dataclass

from rumbrel.core.bench.blanks import SHELF, BlankState, ShelfBlank
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.errors import DiscError
from rumbrel.web.ui.words import counted

from .services import ShelfDisc
from .volume_rows import VolumeDevice

__all__ = ["ShelfItem", "chosen_item", "shelf_items"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfItem:
    """A thing on the shelf: kind says which devices take it, key what is put into them, about what one should know of
    it."""

    kind: str
    key: str
    label: str
    about: str

    @property
    def name(self) -> str:
        """What tells it in an address."""
        return f"{self.kind}:{self.key}"


_CONDITIONS = {"scratched": "scratched", "broken": "spots that nothing reads"}
_FROM = {"disc": "written here", "copy": "copied here", "own": "your image", "practice": "to practise with"}
_ENDINGS = (", written here", ", copied here")


def shelf_items(discs: Sequence[ShelfDisc], volumes: Sequence[VolumeDevice]) -> list[ShelfItem]:
    """Discs first, then blanks, then sticks that are in no socket."""
    return [
        *map(_disc, discs),
        *map(_blank, SHELF),
        *(
            ShelfItem(kind="volume", key=str(each.row.pk), label=each.row.name, about=_volume_said(each))
            for each in volumes if not each.is_in and each.row.key
        ),
    ]  # fmt: skip


def _disc(disc: ShelfDisc) -> ShelfItem:
    label = disc.label
    for ending in _ENDINGS:
        label = label.removesuffix(ending)
    parts = [_contents(disc), _FROM.get(disc.key.partition(":")[0], ""), _CONDITIONS.get(disc.condition, "")]
    return ShelfItem(kind="disc", key=disc.key, label=label, about=", ".join(part for part in parts if part))


def _volume_said(each: VolumeDevice) -> str:
    return f"{each.what}; {each.state}" if each.delivery else each.what


def _contents(disc: ShelfDisc) -> str:
    if disc.path.suffix.lower() == ".iso":
        return "data disc"
    try:
        contents = disc.open().contents
    except DiscError as error:
        return str(error)
    seconds = contents.lead_out_sector // SECTORS_PER_SECOND
    return f"{counted(len(contents.tracks), 'track')}, {seconds // 60}:{seconds % 60:02d}"


def _blank(each: ShelfBlank) -> ShelfItem:
    blank, label = each.blank, each.label
    label, _, about = label.partition(": ")
    if blank.state is not BlankState.BLANK:
        about = "erase it first" if blank.medium.rewritable else "cannot be written again"
    return ShelfItem(kind="blank", key=each.key, label=label, about=about or f"safe to {blank.medium.safe_speed}x")


def chosen_item(items: Sequence[ShelfItem], name: str) -> ShelfItem | None:
    return next((item for item in items if item.name == name), None)
