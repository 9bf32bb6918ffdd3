"""Discs for the stand-in drives, made from the demo's recordings: small, and each of another kind."""

import json
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from rumbrel.core.disc.data_disc import DataFile, write_data_disc
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import Programme, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.disc.text import DiscText, text_of
from rumbrel.core.inspection import Facts
from rumbrel.core.workflows.disc_sounds import programme_of
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id

__all__ = ["make_shelf"]

_MEDIUM = medium_for("80")
_LABELS = {
    "rolls": {"label": "Museum barrels, with CD-Text"},
    "nameless": {"label": "A disc without names"},
    "scratched": {"label": "A scratched disc", "condition": "scratched"},
    "spots": {"label": "A disc with spots that nothing reads", "condition": "broken"},
    "concert": {"label": "An evening concert, without breaks"},
    "hidden": {"label": "A disc with sound before track 1"},
    "data": {"label": "A data disc"},
}


def make_shelf(folder: Path) -> None:
    """What is not there yet, below a folder. Raises RumbrelError."""
    if (folder / "discs.json").is_file():
        return
    rolls = _parts("Organ rolls/", 15)
    days = _parts("Tower days/", 12)
    concert = _parts("Evening concert", 20, whole_start=True)
    _image(folder / "rolls", "Museum barrels", rolls[:3])
    _image(folder / "nameless", "Nameless", days[:3], named=False)
    _image(folder / "scratched", "Scratched", days[1:4])
    _image(folder / "spots", "Spots", [replace(part, samples=part.samples * 2) for part in rolls[1:4]])
    _image(folder / "concert", "Evening concert", [concert[0], *(replace(p, runs_on=True) for p in concert[1:])])
    _image(folder / "hidden", "Hidden bells", days[2:4], hidden=rolls[0])
    files = [DataFile(path=Path(part.path), folder="Tower days", name=Path(part.path).name) for part in days[:1]]
    (folder / "data").mkdir(parents=True, exist_ok=True)
    write_data_disc(files, folder / "data", "Data", medium=_MEDIUM, replaces=True)
    (folder / "discs.json").write_text(json.dumps(_LABELS, indent=1) + "\n", encoding="utf-8")


def _parts(name: str, seconds: int, *, whole_start: bool = False) -> list[Programme]:
    """The first seconds of the lossless tracks of a name; with whole_start, one recording cut in three instead."""
    tracks = Track.objects.filter(relative__contains=name, whole=True, lossless=True, channels=2, missing_since=None)
    found = _facts(list(tracks.order_by("relative")))
    if not whole_start:
        return [replace(programme_of(facts), samples=seconds * facts.sample_rate) for _, facts in found]
    track, facts = found[0]
    base, each = programme_of(facts), seconds * facts.sample_rate
    return [
        replace(
            base, title=f"{track.title}, part {n + 1}", start_sample=n * each, samples=each, album="Evening concert"
        )
        for n in range(3)
    ]


def _facts(tracks: Sequence[Track]) -> list[tuple[Track, Facts]]:
    facts = facts_by_id([track.pk for track in tracks])
    return [(track, facts[track.pk]) for track in tracks if track.pk in facts]


def _image(
    folder: Path, name: str, parts: Sequence[Programme], *, named: bool = True, hidden: Programme | None = None
) -> None:
    layout = lay_out(parts, gap_sectors=2 * SECTORS_PER_SECOND, medium=_MEDIUM, hidden=hidden)
    text: DiscText = text_of(layout, title=name)
    write_image(layout, folder, name, text=text, replaces=True)
    if not named:
        sheet = folder / f"{name}.cue"
        words = ("CDTEXTFILE", "TITLE", "PERFORMER", "SONGWRITER")
        lines = [line for line in sheet.read_text(encoding="utf-8").splitlines() if not line.strip().startswith(words)]
        sheet.write_text("\n".join(lines) + "\n", encoding="utf-8")
        (folder / f"{name}.cdt").unlink()
