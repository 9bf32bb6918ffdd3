"""Gathering tracks and pulling them."""

import os
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.files.uploadedfile import UploadedFile
from django.db import models, transaction

from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts, Problem, ProblemCode, inspect_file

from .models import Pull, Scan, SourceFolder, Track

SECONDS_BETWEEN_NOTES = 0.3


class FolderRefused(RumbrelError):
    """A folder that may not be read as a source folder."""


def add_folder(text: str) -> SourceFolder:
    """Remember a folder below the allowed roots, links resolved first, and scan it."""
    if not text.strip():
        raise FolderRefused("Name a folder, for example one of those below.")
    path = Path(text.strip()).expanduser().resolve()
    if not any(path.is_relative_to(Path(root).resolve()) for root in [*settings.ROOTS, settings.DROPPED]):
        roots = " and ".join(str(root) for root in settings.ROOTS)
        raise FolderRefused(f"Rumbrel may only read below {roots}. RUMBREL_ROOTS says so; start it with more folders.")
    if not path.is_dir():
        raise FolderRefused(f"{path} is not a folder. Check the spelling, and that its disk is connected.")
    folder, _ = SourceFolder.objects.get_or_create(path=str(path))
    start_scan(folder)
    return folder


def start_scan(folder: SourceFolder) -> Scan:
    """Queue a scan unless one is under way."""
    from .tasks import scan_folder

    with transaction.atomic():
        running = folder.scans.filter(state__in=[Scan.State.WAITING, Scan.State.RUNNING]).first()
        if running:
            return running
        scan = folder.scans.create()
        transaction.on_commit(lambda: scan_folder(scan.pk))
    return scan


def run_scan(scan_id: int) -> None:
    """Walk the folder, inspect what is new or changed, drop what is gone. Safe to run twice."""
    scan = Scan.objects.select_related("folder").get(pk=scan_id)
    if scan.state != Scan.State.WAITING:
        return
    root = Path(scan.folder.path)
    if not root.is_dir():
        scan.state = Scan.State.FAILED
        scan.error = f"{root} is not there. Connect its disk, then scan again; its tracks are kept."
        scan.save()
        return
    sources = gather_sources([root])
    scan.state, scan.found = Scan.State.RUNNING, len(sources)
    scan.save()
    known = {track.path: track for track in scan.folder.tracks.all()}
    seen, noted = set(), time.monotonic()
    for done, source in enumerate(sources, 1):
        path = os.fsencode(source.path).decode("utf-8", "replace")
        if _take_source(scan, source.path, path, str(source.relative), known.get(path)):
            seen.add(path)
        else:
            scan.passed_over += 1
        if time.monotonic() - noted > SECONDS_BETWEEN_NOTES:
            noted = time.monotonic()
            scan.done = done
            scan.save(update_fields=["done", "passed_over"])
            if Scan.objects.filter(pk=scan.pk, state=Scan.State.STOPPED).exists():
                return
    if not root.is_dir():
        scan.state, scan.error = Scan.State.FAILED, f"{root} vanished during the scan. Its tracks are kept."
        scan.save()
        return
    scan.folder.tracks.exclude(path__in=seen).delete()
    Scan.objects.filter(pk=scan.pk, state=Scan.State.RUNNING).update(
        state=Scan.State.FINISHED, done=len(sources), passed_over=scan.passed_over
    )


def _take_source(scan: Scan, file: Path, path: str, relative: str, track: Track | None) -> bool:
    """Store a file's facts; False for files that neither are nor claim to be sound."""
    try:
        status = file.stat()
    except OSError:
        status = None
    unchanged = track and status and (track.size_bytes, track.modified_ns) == (status.st_size, status.st_mtime_ns)
    if unchanged:
        return True
    facts = inspect_file(file)
    if not facts.sample_rate and file.suffix.lower() not in SOUND_SUFFIXES:
        return False
    track = track or Track(folder=scan.folder, path=path, relative=relative.encode("utf-8", "replace").decode())
    track.take(facts)
    track.save()
    return True


def stop_scan(scan: Scan) -> None:
    Scan.objects.filter(pk=scan.pk, state__in=[Scan.State.WAITING, Scan.State.RUNNING]).update(state=Scan.State.STOPPED)


def take_dropped(files: list[UploadedFile]) -> int:
    """Keep files dropped on the page and scan them. Names lose any path; a taken name is numbered."""
    settings.DROPPED.mkdir(parents=True, exist_ok=True)
    for file in files:
        name = Path(file.name or "sound").name.lstrip(".") or "sound"
        path, number = settings.DROPPED / name, 1
        while path.exists():
            number += 1
            path = settings.DROPPED / f"{Path(name).stem} ({number}){Path(name).suffix}"
        working = path.with_name(f".{path.name}.part")
        try:
            with working.open("wb") as target:
                for chunk in file.chunks():
                    target.write(chunk)
            working.replace(path)
        finally:
            working.unlink(missing_ok=True)
    add_folder(str(settings.DROPPED))
    return len(files)


@dataclass(frozen=True, slots=True, kw_only=True)
class Query:
    """What the collection's sentence says."""

    folder: str = ""
    kind: str = ""
    rate: str = ""
    fault: str = ""
    text: str = ""
    order: str = "folder"


ORDERS = {
    "folder": ("relative",),
    "title": ("title",),
    "player": ("artist", "relative"),
    "kind": ("kind", "relative"),
    "length": ("-seconds",),
    "size": ("-size_bytes",),
    "fault": ("-fault_fatal", "-fault", "relative"),
}


def find_tracks(query: Query) -> models.QuerySet[Track]:
    """Tracks by the sentence and the search words, each of which must be found somewhere."""
    tracks = Track.objects.select_related("folder", "pull")
    if query.folder.isdecimal():
        tracks = tracks.filter(folder_id=int(query.folder))
    if query.kind:
        tracks = tracks.filter(kind=query.kind)
    if query.rate.isdecimal():
        tracks = tracks.filter(sample_rate=int(query.rate))
    if query.fault == "none":
        tracks = tracks.filter(fault="")
    elif query.fault == "any":
        tracks = tracks.exclude(fault="")
    elif query.fault:
        tracks = tracks.filter(fault=query.fault)
    for word in query.text.split():
        tracks = tracks.filter(
            models.Q(title__icontains=word)
            | models.Q(artist__icontains=word)
            | models.Q(album__icontains=word)
            | models.Q(relative__icontains=word)
        )
    return tracks.order_by(*ORDERS.get(query.order, ORDERS["folder"]))


def choices() -> dict[str, Any]:
    """What can be put into each place of the sentence."""
    values = lambda field: sorted(set(Track.objects.exclude(**{field: ""}).values_list(field, flat=True)))  # noqa: E731
    rates = sorted(set(Track.objects.exclude(sample_rate=0).values_list("sample_rate", flat=True)))
    return {
        "folders": SourceFolder.objects.order_by("path"),
        "kinds": values("kind"),
        "rates": rates,
        "faults": values("fault"),
    }


def toggle_pull(track: Track) -> bool:
    """Put a track on the pull list or take it off; True when it is on it afterwards."""
    with transaction.atomic():
        pull, created = Pull.objects.get_or_create(track=track)
        if not created:
            pull.delete()
    return created


def pull_all(query: Query) -> int:
    """Pull every track the query finds; returns how many were added."""
    fresh = find_tracks(query).filter(pull=None)
    return len(Pull.objects.bulk_create([Pull(track=track) for track in fresh]))


def pulled_tracks() -> list[Track]:
    return [pull.track for pull in Pull.objects.select_related("track", "track__folder")]


def roots() -> list[Path]:
    """Folders below which source folders may lie."""
    return [Path(root) for root in settings.ROOTS]


def facts_of(track: Track) -> Facts:
    """The facts as stored, enough to judge a fit; a batch inspects the file itself again."""
    return Facts(
        path=track.path,
        size_bytes=track.size_bytes,
        modified_ns=track.modified_ns,
        container=track.container,
        codec=track.codec,
        lossless=track.lossless,
        sample_rate=track.sample_rate,
        bit_depth=track.bit_depth,
        channels=track.channels,
        samples=track.samples,
        bitrate_bps=track.bitrate_bps,
        bitrate_mode=track.bitrate_mode,
        channel_mode=track.channel_mode,
        sound_streams=track.sound_streams,
        has_video=track.has_video,
        lead_samples=track.lead_samples,
        problems=tuple(Problem(code=ProblemCode(p["code"]), text=p["text"]) for p in track.problems),
    )
