"""The web with very many tracks: milliseconds, kB and queries of each page, fragment and action.

The collection is made up of rows (tests/scale.py) in a database file of its own; requests go through
Django's client, so that they count everything but the network.
"""

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from statistics import quantiles
from typing import Any
from unittest import mock

__all__ = ["MEASURES", "run"]

MEASURES = {"screens": 100_000, "screens-million": 1_000_000, "scan": 20_000, "lists": 100_000}
TURNS = 20
PULLED = 10_000


def run(names: Sequence[str]) -> None:
    """Each in a process of its own, with a data folder of its own."""
    for name in [each for each in names if each in MEASURES]:
        with tempfile.TemporaryDirectory() as data:
            environment = {
                **os.environ,
                "RUMBREL_DATA": data,
                "RUMBREL_ROOTS": data,
                "DJANGO_SETTINGS_MODULE": "rumbrel.web.settings.test",
            }
            subprocess.run([sys.executable, "-m", "tests.measure.screens", name], env=environment, check=True)


def _main(name: str) -> None:
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0)
    if name == "scan":
        _scan(MEASURES[name])
    elif name == "lists":
        from .lists import measure_lists

        print(_yardstick())
        print("| what | ms, median | ms, p95 | kB | queries |\n|---|---|---|---|---|")
        measure_lists(_htmx)
    else:
        _screens(MEASURES[name])


def _yardstick() -> str:
    """What this machine is worth just now: figures in milliseconds mean something only beside it."""
    took, _ = _timed(lambda: sum(number % 7 for number in range(10_000_000)))
    return f"yardstick, ten million steps of a plain loop: {took / 1000:.2f} s"


def _timed(work: Callable[[], Any]) -> tuple[float, Any]:
    begun = time.perf_counter()
    result = work()
    return (time.perf_counter() - begun) * 1000, result


def _screens(count: int) -> None:
    from django.urls import reverse

    from rumbrel.core.targets import find_target
    from rumbrel.web.batches.models import Batch
    from rumbrel.web.batches.services import forecast_tracks, start_batch
    from rumbrel.web.batches.wishes import BatchWish
    from rumbrel.web.collection.models import Track
    from rumbrel.web.collection.queries import find_tracks, pulled_ids
    from rumbrel.web.collection.sentence import Sentence
    from rumbrel.web.collection.services import pull_found
    from rumbrel.web.playlists.services import make_playlist
    from tests.scale import fill

    seconds, _ = _timed(lambda: fill(count))
    print(f"\n{count:,} tracks (made in {seconds / 1000:.0f} s), {PULLED:,} pulled")
    print(_yardstick())
    last = Track.objects.order_by("-pk").first()
    pull_found(sentence=Sentence(folder=last.folder_id, order="title"))
    pulled = pulled_ids()
    _shorten(pulled)
    playlist = make_playlist(name="Long", track_ids=pulled[:1_000])
    middle = find_tracks(Sentence(order="length"))[count // 2]
    entry = playlist.entries.all()[500]
    rows = reverse("collection:rows")
    print("| what | ms, middle | ms, p95 | kB | queries |\n|---|---|---|---|---|")
    for label, address, values in (
        ("collection", reverse("collection:index"), None),
        ("rows of one format", f"{rows}?format=FLAC", None),
        ("rows of a search", f"{rows}?text=waltz", None),
        ("rows of a search that finds nearly all", f"{rows}?text=perf", None),
        ("rows from the middle, by length", f"{rows}?order=length&after={middle.pk}", None),
        ("rows narrowed by length and kind", f"{rows}?kind=lossless&least_minutes=3&most_minutes=4", None),
        ("rows without a genre, by album and length", f"{rows}?lacks=genre&order=album&then=length", None),
        (
            "rows of some years, other columns",
            f"{rows}?least_year=2024&order=year&turned=yes&columns=album&columns=year",
            None,
        ),
        ("folders as groups", reverse("collection:groups") + "?by=folder", None),
        ("overview", reverse("collection:overview"), None),
        ("one track's page", reverse("collection:track", args=[middle.pk]), None),
        ("one track's panel", reverse("collection:panel", args=[middle.pk]), None),
        ("the pull list's strip", reverse("collection:pull-strip"), None),
        ("the head's work", reverse("jobs:head"), None),
        ("what plays where, pulled", reverse("targets:where"), None),
        ("what plays where, one target", reverse("targets:where") + "?target=car-mp3&page=40", None),
        ("targets", reverse("targets:index"), None),
        ("batches", reverse("batches:index"), None),
        ("a playlist of 1,000", reverse("playlists:playlist", args=[playlist.pk]) + "?page=5", None),
        ("pull one", reverse("collection:pull", args=[middle.pk]), {}),
        ("move one in the list", reverse("playlists:move", args=[entry.pk]), {"way": "up"}),
    ):
        _show(label, address, values)
    once = [
        ("one recording in other formats", lambda: _get(reverse("collection:duplicates") + "?kind=recording")),
        ("reasons of one target, whole collection", lambda: _get(
            reverse("targets:where") + "?tracks=all&target=car-mp3")),
        ("what plays where, whole collection", lambda: _get(reverse("targets:where") + "?tracks=all")),
        ("forecast, one target", lambda: forecast_tracks(wish=BatchWish(targets=(find_target("car-mp3"),)))),
        ("forecast, three targets", lambda: forecast_tracks(
            wish=BatchWish(targets=tuple(map(find_target, ("archive-flac", "open-opus", "pocket-aac")))))),
        ("forecast page, the second time", lambda: _get(reverse("batches:forecast") + "?target=car-mp3&page=7")),
        ("start a batch", lambda: start_batch(
            track_ids=pulled_ids(), wish=BatchWish(targets=(find_target("car-mp3"),)))),
        ("a batch of 10,000, planned", _planned),
        ("its page", lambda: _get(reverse("batches:batch", args=[Batch.objects.latest("pk").pk]))),
        ("its page 50", lambda: _get(reverse("batches:batch", args=[Batch.objects.latest("pk").pk]) + "?page=50")),
        ("its progress", lambda: _get(reverse("batches:progress", args=[Batch.objects.latest("pk").pk]) + "?last=100")),
        ("its report to print", lambda: _get(reverse("batches:report", args=[Batch.objects.latest("pk").pk]))),
        ("clear the pull list", lambda: _post(reverse("collection:clear-pull"))),
        ("undo the clear", lambda: _post(reverse("collection:undo-clear"))),
        ("pull all of one format", lambda: _post(reverse("collection:pull-all") + "?format=WAV")),
    ]  # fmt: skip
    print("| what, once | ms |\n|---|---|")
    for label, work in once:
        print(f"| {label} | {_timed(work)[0]:,.0f} |", flush=True)
    print(_yardstick())


def _planned() -> None:
    """The batch that waits, with its lines, and none of its files made."""
    from rumbrel.web.jobs.models import Job
    from rumbrel.web.jobs.services import run_job

    with mock.patch("rumbrel.web.batches.services.run_batch._run"):
        run_job(job_id=Job.objects.filter(kind="batch", state=Job.State.WAITING).latest("pk").pk)


def _shorten(pulled: Sequence[int]) -> None:
    """Leave PULLED tracks on the list."""
    from rumbrel.web.collection.models import Pull
    from rumbrel.web.collection.queries import pull_list_of
    from rumbrel.web.collection.services.pull_tracks import recount_pulls

    keep = Pull.objects.order_by("pk").values_list("pk", flat=True)[PULLED - 1 : PULLED]
    if keep:
        Pull.objects.filter(pk__gt=keep[0]).delete()
    recount_pulls(pull_list_of())


def _client() -> Any:
    from django.test import Client

    return Client(headers={"host": "127.0.0.1"})


def _get(address: str) -> Any:
    return _client().get(address)


def _post(address: str) -> Any:
    return _client().post(address)


def _htmx(label: str, address: str, values: dict[str, str] | None) -> None:
    """As the screen asks: a change is answered with the part that changed."""
    _show(label, address, values, headers={"HX-Request": "true"} if values is not None else {})


def _show(label: str, address: str, values: dict[str, str] | None, *, headers: dict[str, str] | None = None) -> None:
    from django.db import connection

    queries: list[str] = []

    def noted(execute: Callable[..., Any], sql: str, *rest: Any) -> Any:
        queries.append(sql)
        return execute(sql, *rest)

    client = _client()
    ask = (lambda: client.get(address)) if values is None else (lambda: client.post(address, values, headers=headers))
    ask()
    with connection.execute_wrapper(noted):
        response = ask()
    times = [_timed(ask)[0] for _ in range(TURNS)]
    parts = quantiles(times, n=20)
    size = len(response.content) / 1000
    print(f"| {label} | {parts[9]:.0f} | {parts[18]:.0f} | {size:.0f} | {len(queries)} |", flush=True)


def _scan(count: int) -> None:
    """A first scan of small files, and one of the same unchanged."""
    from django.conf import settings

    from rumbrel.web.collection.services import add_folder, start_scan
    from rumbrel.web.jobs.models import Job
    from rumbrel.web.jobs.services import run_job
    from tests.signals import write_sound

    folder = Path(settings.RUMBREL.data) / "many"
    whole = [write_sound(Path(settings.RUMBREL.data) / f"one.{s}", 4_000).read_bytes() for s in ("wav", "flac")]
    for number in range(count):
        path = folder / f"{number // 200}" / f"{number}.{('wav', 'flac')[number % 2]}"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(whole[number % 2])
    found = add_folder(path=str(folder))
    print(f"\n{count:,} small files")
    for label in ("first scan", "scan of the same"):
        job = Job.objects.filter(state="waiting").first() or start_scan(folder=found)
        took, _ = _timed(lambda job=job: run_job(job_id=job.pk))  # type: ignore[misc]
        print(f"{label}: {took / 1000:.1f} s; {Job.objects.get(pk=job.pk).message}", flush=True)


if __name__ == "__main__":
    _main(sys.argv[1])
