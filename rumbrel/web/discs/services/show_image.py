"""What can be had of a written disc: its files, other forms of it, a page for burning it, and its sound as a player
plays it."""

import shutil
from collections.abc import Collection
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.bench.player import StandInPlayer
from rumbrel.core.disc.burn_sheet import burn_sheet
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.proof import digests_beside
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, CHANNELS, DEPTH_BITS, SAMPLE_RATE, SAMPLES_PER_SECTOR
from rumbrel.core.errors import DiscError
from rumbrel.core.sound.listening import ListeningShape
from rumbrel.web.jobs.services import Desk

from ..models import Disc
from .plan_layout import plan_layout
from .write_disc import disc_folder, image_name

__all__ = ["FORMS", "ImageFile", "PlayedTrack", "burning_page", "image_files", "make_flac", "make_wav", "play_track"]

FORMS = ("wav", "flac")
"""Other forms of a written audio CD: a file for each track, or one for all, each with its own cue sheet."""
_ORDER = (".bin", ".iso", ".flac", ".cue", ".cdt", ".sub", ".digests", ".wav")


@dataclass(frozen=True, slots=True, kw_only=True)
class ImageFile:
    """A file of a written disc; name is what it is called below the disc's folder."""

    path: Path
    name: str
    size_bytes: int


def image_files(disc: Disc) -> list[ImageFile]:
    """Everything that belongs to what was written last, the image first."""
    folder = disc_folder(disc)
    found = [
        ImageFile(path=path, name=str(path.relative_to(folder)), size_bytes=path.stat().st_size)
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not path.is_symlink() and path.suffix in _ORDER
    ]
    return sorted(found, key=lambda file: (file.name.count("/"), _ORDER.index(file.path.suffix), file.name))


def burning_page(disc: Disc) -> str:
    """Raises DiscError when there is no image."""
    cue = Path(disc.image_path).with_suffix(".cue")
    return burn_sheet(cue, careful_speed=medium_for(disc.design.medium_key).careful_speed)


def make_wav(desk: Desk, disc_id: int) -> str:
    return _make_form(desk, disc_id, "wav")


def make_flac(desk: Desk, disc_id: int) -> str:
    return _make_form(desk, disc_id, "flac")


def _make_form(desk: Desk, disc_id: int, form: str) -> str:
    """The same disc in another form, track by track of the same samples. Raises DiscError when the disc was changed
    since it was written."""
    disc = Disc.objects.select_related("playlist").get(pk=disc_id)
    planned = plan_layout(disc=disc)
    if not disc.image_path or planned.mark != disc.written_mark:
        raise DiscError("The disc was changed since it was written. Write it again, then make other forms of it.")
    written = digests_beside(Path(disc.image_path))
    folder = disc_folder(disc) / form
    plan = planned.audio
    image = write_image(
        plan.layout,
        folder,
        image_name(disc),
        text=plan.text,
        image_format=form,
        report=desk.report,
        replaces=True,
        packs=plan.packs,
    )
    marks = image.marks
    if any(written.of(region) != digest for region, digest in zip(marks.regions, marks.digests, strict=True)):
        shutil.rmtree(folder)
        raise DiscError(
            "A source changed since the disc was written: this form would not be the same disc. Write it again."
        )
    return f"The same samples, track by track, are in {folder}."


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayedTrack:
    """A track as the stand-in player plays it, as a WAV file of known length."""

    player: StandInPlayer
    part: str
    shape: ListeningShape

    def read(self, start: int, end: int) -> bytes:
        """Bytes from one place of the file up to another."""
        head = self.shape.header
        if start < len(head):
            return head[start:end]
        first = start - len(head)
        # A player asks for its sound piece by piece; a sector's edge is as good an end as any.
        return self.player.piece(self.part, first, min(end - len(head), first + _MOST_BYTES))


_MOST_BYTES = 400 * BYTES_PER_SECTOR


def play_track(sheet: Path, part: str, *, unread: Collection[int] = ()) -> PlayedTrack:
    """Put the image of a cue sheet into the stand-in player. part is a track's number or another one of a player's parts.
    Raises DiscError with what it stumbles over."""
    player = StandInPlayer(sheet, unread=unread)
    samples = player.span_of(part).sectors * SAMPLES_PER_SECTOR
    shape = ListeningShape(sample_rate=SAMPLE_RATE, channels=CHANNELS, samples=samples, depth_bits=DEPTH_BITS)
    return PlayedTrack(player=player, part=part, shape=shape)
