"""Lay out discs and write them on the stand-in recorder."""

import re
import time
from pathlib import Path

from django.conf import settings
from django.db import transaction

from rumbrel.core.bench.recorder import StandInRecorder
from rumbrel.core.disc.checklist import first_failure
from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.errors import Cancelled, RumbrelError
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.services import facts_of

from .models import Disc

GAP_CHOICES = (0, 1, 2, 3, 4, 5)
SECONDS_BETWEEN_NOTES = 0.3


def _programme(track: Track) -> Programme:
    facts = facts_of(track)
    return Programme(
        path=track.path,
        choice=facts.choice(),
        title=track.title,
        performer=track.artist,
        samples=track.samples,
        sample_rate=track.sample_rate or 44_100,
        channels=track.channels,
        lossless=track.lossless,
        album=track.album,
    )


def layout_of(disc: Disc) -> DiscLayout:
    tracks = [entry.track for entry in disc.playlist.entries.select_related("track") if entry.track.samples]
    return lay_out(
        [_programme(track) for track in tracks],
        gap_sectors=disc.gap_seconds * SECTORS_PER_SECOND,
        medium=medium_for(disc.medium_key),
    )


def left_out(disc: Disc) -> list[Track]:
    """Tracks of the list that have no sound to lay out."""
    return [entry.track for entry in disc.playlist.entries.select_related("track") if not entry.track.samples]


def change(disc: Disc, *, medium: str, gap: str, speed: str) -> None:
    """Take the sentence's choices; a changed layout is no longer the one that was written."""
    disc.medium_key = medium_for(medium).key
    disc.gap_seconds = int(gap) if gap.isdecimal() and int(gap) in GAP_CHOICES else disc.gap_seconds
    speeds = medium_for(disc.medium_key).speeds
    disc.speed = int(speed) if speed.isdecimal() and int(speed) in speeds else min(disc.speed, max(speeds))
    if not disc.busy:
        disc.state, disc.verdicts, disc.error = Disc.State.LAID_OUT, [], ""
    disc.save()


def start_write(disc: Disc) -> None:
    """Queue the write. Raises RumbrelError when the layout may not be written."""
    from .tasks import write_disc

    failed = first_failure(layout_of(disc))
    if failed:
        raise RumbrelError(f"The disc cannot be written: {failed.text}.")
    with transaction.atomic():
        claimed = Disc.objects.filter(pk=disc.pk).exclude(state__in=[Disc.State.WAITING, Disc.State.RUNNING])
        if claimed.update(state=Disc.State.WAITING, share=0, step="", error="", verdicts=[]):
            transaction.on_commit(lambda: write_disc(disc.pk))


def stop_write(disc: Disc) -> None:
    states = [Disc.State.WAITING, Disc.State.RUNNING]
    Disc.objects.filter(pk=disc.pk, state__in=states).update(state=Disc.State.STOPPED)


def run_write(disc_id: int) -> None:
    """Write and read back. A stopped write leaves no image under the final name."""
    if not Disc.objects.filter(pk=disc_id, state=Disc.State.WAITING).update(state=Disc.State.RUNNING):
        return
    disc = Disc.objects.select_related("playlist").get(pk=disc_id)
    noted = 0.0

    def report(step: str, share: float) -> None:
        nonlocal noted
        if time.monotonic() - noted < SECONDS_BETWEEN_NOTES:
            return
        noted = time.monotonic()
        running = Disc.objects.filter(pk=disc_id, state=Disc.State.RUNNING)
        if not running.update(step=step, share=min(1.0, share)):
            raise Cancelled("Stopped. The blank counts as spoiled; the layout is kept.")

    folder = Path(settings.DISCS) / str(disc.pk)
    name = re.sub(r"[^\w\- ]+", "_", disc.playlist.name).strip() or "disc"
    try:
        written = StandInRecorder(speed=disc.speed).write(layout_of(disc), folder, name, report)
    except Cancelled as error:
        Disc.objects.filter(pk=disc_id).update(error=str(error))
        return
    except RumbrelError as error:
        Disc.objects.filter(pk=disc_id).update(state=Disc.State.FAILED, error=str(error))
        return
    Disc.objects.filter(pk=disc_id).update(
        state=Disc.State.WRITTEN if written.equal else Disc.State.FAILED,
        error="" if written.equal else "Some tracks do not read back as they were written.",
        share=1.0,
        image_path=str(written.image.bin_path) if written.image else "",
        verdicts=[{"number": v.number, "sectors": v.sectors, "equal": v.equal} for v in written.verdicts],
        simulated_seconds=written.simulated_seconds,
    )
