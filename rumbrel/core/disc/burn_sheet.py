"""A written disc on one page of plain text: what lies on it, and how it comes onto a real blank with any program that
takes the open formats."""

from pathlib import Path

from rumbrel.core.errors import DiscError

from .cue_sheet import read_cue_file
from .red_book import BYTES_PER_SECTOR, format_msf

__all__ = ["burn_sheet"]


def burn_sheet(cue_path: Path, *, careful_speed: int) -> str:
    """The page of an image in BIN. Raises DiscError when the image is not there."""
    sheet = read_cue_file(cue_path)
    image = cue_path.with_name(sheet.tracks[0].file.name)
    try:
        sectors = image.stat().st_size // BYTES_PER_SECTOR
        digests = cue_path.with_suffix(".digests").read_text(encoding="utf-8").splitlines()
    except OSError as error:
        raise DiscError(f"{error.filename} cannot be read: {error.strerror}.") from error
    by = f", {sheet.performer}" if sheet.performer else ""
    lines = [
        f"{sheet.title or cue_path.stem}{by}",
        f"{len(sheet.tracks)} tracks, {format_msf(sectors)} (minutes:seconds:frames, 75 frames a second)",
        *([f"UPC/EAN {sheet.product_code}"] if sheet.product_code else []),
        "",
        "How to write it",
        f"1. Keep these files together in one folder: {cue_path.name}, {image.name}"
        + (f", {sheet.text_file}." if sheet.text_file else "."),
        f"2. Open {cue_path.name} in any program that writes images from a cue sheet.",
        "3. Write the whole disc in one go (disc at once), and close it. Track at once would put gaps of its own in.",
        f"4. {careful_speed}x is careful. Let nothing else use the drive meanwhile.",
        *(["5. Let CD-Text be written, if the program asks."] if sheet.text_file else []),
        "Afterwards compare: the digests below are BLAKE2b, 32 bytes long, of each track's samples as 16 bit",
        "little-endian stereo, without the gap before it.",
        "",
        " No  Starts at  Length     Title",
    ]
    for position, track in enumerate(sheet.tracks):
        later = sheet.tracks[position + 1] if position + 1 < len(sheet.tracks) else None
        end = sectors if later is None else later.start_sector
        before = (
            "" if later is None or later.gap_sector is None else f", then {format_msf(end - later.gap_sector)} of gap"
        )
        length = format_msf((later.gap_sector if later and later.gap_sector is not None else end) - track.start_sector)
        who = f"{track.title}{f', {track.performer}' if track.performer else ''}"
        codes = f", ISRC {track.isrc}" if track.isrc else ""
        lines.append(f" {track.number:02d}  {format_msf(track.start_sector):>9}  {length:>9}  {who}{codes}{before}")
    return "\n".join([*lines, "", "Digests", *digests]) + "\n"
