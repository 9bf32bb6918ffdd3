"""Work already done, so that every screen shows something at first sight: real scans, a batch, discs."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from django.conf import settings

from rumbrel.core.disc.design import with_gap
from rumbrel.core.disc.red_book import SECTORS_PER_SECOND
from rumbrel.core.targets import find_target
from rumbrel.web.batches.models import Batch
from rumbrel.web.batches.services import start_batch
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.collection.sentence import Sentence
from rumbrel.web.collection.services import add_folder, clear_pulls, pull_found
from rumbrel.web.compare.models import Comparison
from rumbrel.web.compare.services import start_comparison
from rumbrel.web.discs.services import change_disc, lay_out_list, put_in, start_write
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import run_job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.services import make_playlist

from .fill_volumes import fill_volumes
from .make_shelf import make_shelf

__all__ = ["prepare_demo"]


def prepare_demo(*, folders: Sequence[Path], say: Callable[[str], None]) -> None:
    """Scan the folders, run a batch, lay out two discs and write one of them, once. Raises RumbrelError."""
    for folder in folders:
        if not SourceFolder.objects.filter(path=str(folder)).exists():
            say(f"Scanning {folder.name} ...")
            add_folder(path=str(folder))
    _work("scan")
    if not Batch.objects.exists():
        say("Converting a batch ...")
        tracks = Track.objects.filter(folder__path=str(folders[1])).order_by("relative")
        wish = BatchWish(targets=(find_target("phone-ulaw"),))
        start_batch(track_ids=list(tracks.values_list("pk", flat=True)), wish=wish)
        _work("batch")
    if not Playlist.objects.exists():
        say("Writing a disc ...")
        _discs()
        _work("disc-write")
        _pull()
    make_shelf(settings.RUMBREL.shelf / "demo")
    fill_volumes(folders)
    _work("look-volume")
    if not Comparison.objects.exists():
        say("Making a comparison ...")
        polka = Track.objects.get(relative__contains="Polka", relative__startswith="Organ rolls")
        start_comparison(
            track=polka, settings_chosen=["target:car-mp3", "target:pocket-aac", "target:speech-small"],
            start_seconds=74, seconds=15,
        )  # fmt: skip
        _work("compare")


def _work(kind: str) -> None:
    """Carry out what waits, here and now."""
    for pk in Job.objects.filter(kind=kind, state=Job.State.WAITING).values_list("pk", flat=True):
        run_job(job_id=pk)


def _discs() -> None:
    """A shop disc of everything, which runs over, and one of organ rolls, which is written."""
    music = Track.objects.filter(whole=True).exclude(relative__regex="^(Spoken|Box 7)/")
    everything = make_playlist(name="Shop CD, everything", track_ids=[t.pk for t in music.order_by("relative")])
    lay_out_list(playlist=everything)
    rolls = music.filter(relative__startswith="Organ rolls").order_by("relative")
    short = make_playlist(name="Barrel organ rolls", track_ids=[track.pk for track in rolls[:4]])
    written = lay_out_list(playlist=short)
    change_disc(
        disc_id=written.pk, change=lambda design: with_gap(replace(design, medium_key="21"), SECTORS_PER_SECOND),
        said="a small blank",
    )  # fmt: skip
    written.refresh_from_db()
    put_in(recorder=written.recorder_key, shelf_key="21")
    start_write(disc=written)


def _pull() -> None:
    """A few tracks on the pull list, as for the tour bus."""
    clear_pulls()
    pull_found(sentence=Sentence(text="Tower days", order="folder"))
