"""The discs that can be put into a stand-in drive: the demo's, those that were written here, and images of one's own."""

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile

from rumbrel.core.bench.image_disc import ImageDisc, open_image
from rumbrel.core.errors import DiscError, OutputError
from rumbrel.core.files import output_errors, working_folder
from rumbrel.web.discs.queries import written_discs

__all__ = ["ShelfDisc", "discs_on_shelf", "drop_image", "shelf_disc"]

_LARGEST_BYTES = 1_000_000_000
_IMAGE_SUFFIXES = (".cue", ".bin", ".wav", ".flac", ".cdt", ".iso", ".digests", ".sub")


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfDisc:
    """A disc; condition is the key of what reading it is like (see core's drives)."""

    key: str
    label: str
    path: Path
    condition: str = "clean"

    def open(self) -> ImageDisc:
        """Raises DiscError for what no drive shows tracks of."""
        if self.path.suffix.lower() == ".iso":
            raise DiscError(
                "This is a data disc: it has no audio tracks to take in. Its files can be added as a folder."
            )
        return open_image(self.path)


def discs_on_shelf() -> list[ShelfDisc]:
    """The demo's first, then what was written here, then one's own images."""
    return [*_kept_in(settings.RUMBREL.shelf / "demo"), *_written(), *_kept_in(settings.RUMBREL.shelf / "own")]


def _kept_in(folder: Path) -> list[ShelfDisc]:
    try:
        said = json.loads((folder / "discs.json").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        said = {}
    found = []
    for path in sorted(folder.glob("*/*")) if folder.is_dir() else ():
        if path.suffix.lower() in (".cue", ".iso") and not path.is_symlink():
            about = said.get(path.parent.name, {})
            found.append(
                ShelfDisc(
                    key=f"{folder.name}:{path.parent.name}", label=str(about.get("label", path.stem)), path=path,
                    condition=str(about.get("condition", "clean")),
                )
            )  # fmt: skip
    return found


def _written() -> list[ShelfDisc]:
    found = []
    for disc in written_discs()[:50]:
        path = Path(disc.image_path)
        sheet = path if path.suffix == ".iso" else path.with_suffix(".cue")
        if sheet.is_file():
            found.append(ShelfDisc(key=f"disc:{disc.pk}", label=f"{disc}, written here", path=sheet))
    return found


def shelf_disc(key: str) -> ShelfDisc:
    """The disc of a key. Raises DiscError when it is not there any more."""
    for disc in discs_on_shelf():
        if disc.key == key:
            return disc
    raise DiscError("That disc is not on the shelf any more. Choose another one.")


def drop_image(*, files: Sequence[UploadedFile]) -> ShelfDisc:
    """Keep an image of the user's own: a cue sheet and the file that it names, or an ISO. Raises DiscError for what is
    none, OutputError where there is no room; then nothing of it is left."""
    named = {Path(file.name or "").name: file for file in files}
    heads = [name for name in named if Path(name).suffix.lower() in (".cue", ".iso")]
    if len(heads) != 1:
        raise DiscError("Choose one cue sheet together with the image that it names, or one ISO.")
    if any(Path(name).suffix.lower() not in _IMAGE_SUFFIXES for name in named):
        raise DiscError(f"An image is made of files that end in {', '.join(_IMAGE_SUFFIXES)}.")
    if sum(file.size or 0 for file in files) > _LARGEST_BYTES:
        raise DiscError("That is more than a disc holds.")
    own = settings.RUMBREL.shelf / "own"
    own.mkdir(parents=True, exist_ok=True)
    stem = re.sub(r"[^\w\- ]+", "_", Path(heads[0]).stem).strip()[:80] or "disc"
    number, name = 1, stem
    while (own / name).exists():
        number += 1
        name = f"{stem} {number}"
    with output_errors(own), working_folder(own / name) as work:
        for each, file in named.items():
            with (work / each).open("wb") as out:
                for chunk in file.chunks():
                    out.write(chunk)
        disc = ShelfDisc(key=f"own:{name}", label=name, path=work / heads[0])
        if disc.path.suffix.lower() != ".iso":
            disc.open()
        work.rename(own / name)
    if not (own / name).is_dir():
        raise OutputError(f"The image could not be kept in {own}.")
    return ShelfDisc(key=disc.key, label=name, path=own / name / heads[0])
