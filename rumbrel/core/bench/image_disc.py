"""A disc as an image holds it: contents table, CD-Text and sectors, for the stand-in player and drive."""

from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.disc.cue_sheet import CueSheet, read_cue_file
from rumbrel.core.disc.data_marks import refuse_data
from rumbrel.core.disc.reading import Contents, ContentsTrack
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError

__all__ = ["ImageDisc", "open_image"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ImageDisc:
    """sheet and contents of an image whose sectors lie in one file."""

    image_path: Path
    sheet: CueSheet
    contents: Contents

    def read(self, start: int, count: int) -> bytes:
        """The bytes of sectors. Raises DiscError beyond the disc's end."""
        if not 0 <= start <= start + count <= self.contents.lead_out_sector:
            raise DiscError("There is no such sector on the disc.")
        try:
            with self.image_path.open("rb") as file:
                file.seek(start * BYTES_PER_SECTOR)
                return file.read(count * BYTES_PER_SECTOR)
        except OSError as error:
            raise DiscError(f"The image cannot be read: {error.strerror}.") from error


def open_image(cue_path: Path) -> ImageDisc:
    """The disc of a cue sheet that names one BIN. Raises DiscError."""
    sheet = read_cue_file(cue_path)
    if len({track.file.name for track in sheet.tracks}) != 1 or sheet.tracks[0].file.kind != "BINARY":
        raise DiscError("Only an image in one BIN file can be put into the drive.")
    image = cue_path.with_name(sheet.tracks[0].file.name)
    try:
        size = image.stat().st_size
        text = cue_path.with_name(sheet.text_file).read_bytes() if sheet.text_file else b""
    except FileNotFoundError as error:
        missing = Path(error.filename).name
        raise DiscError(f"{missing} is not there, though {cue_path.name} names it. Choose both together.") from error
    except OSError as error:
        raise DiscError(f"{Path(error.filename).name} cannot be read: {error.strerror}.") from error
    if size % BYTES_PER_SECTOR or size < BYTES_PER_SECTOR:
        raise DiscError(f"{image.name} does not end at a whole sector: it was cut short.")
    lead_out = size // BYTES_PER_SECTOR
    if sheet.tracks[-1].start_sector >= lead_out:
        raise DiscError(f"{image.name} ends before its last track begins: it was cut short.")
    for track in sheet.tracks:
        refuse_data(image, track.start_sector)
    tracks = tuple(
        ContentsTrack(
            number=track.number, start_sector=track.start_sector, pre_emphasis=track.pre_emphasis,
            copy_permitted=track.copy_permitted, isrc=track.isrc, index_sectors=track.index_sectors,
            gap_sectors=0 if track.gap_sector is None else track.start_sector - track.gap_sector,
        )
        for track in sheet.tracks
    )  # fmt: skip
    contents = Contents(
        tracks=tracks, lead_out_sector=lead_out, text=text, product_code=sheet.product_code, said=_said(sheet)
    )
    return ImageDisc(image_path=image, sheet=sheet, contents=contents)


def _said(sheet: CueSheet) -> DiscText | None:
    """The names that the sheet itself has; None where it has no titles."""
    if not any(track.title for track in sheet.tracks):
        return None
    tracks = tuple(
        TrackText(title=t.title, performer=t.performer, songwriter=t.songwriter, isrc=t.isrc) for t in sheet.tracks
    )
    disc = TrackText(title=sheet.title, performer=sheet.performer)
    return DiscText(disc=disc, tracks=tracks, product_code=sheet.product_code)
