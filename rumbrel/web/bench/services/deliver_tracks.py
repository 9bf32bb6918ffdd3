"""Deliveries: foreseen to the cluster, carried out in playing order, gone on with when the volume is back."""

import shutil
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.db.models import Count
from django.utils import timezone

from rumbrel.core.crew import default_jobs
from rumbrel.core.delivery import Delivered, FoundList
from rumbrel.core.delivery.order import Ordered, bring_back
from rumbrel.core.delivery.player_view import shown_text
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.errors import OutputError
from rumbrel.core.files import file_digest, output_errors, sha256_of, write_whole
from rumbrel.core.forecast import Action, Source, Step, warning_records
from rumbrel.core.forecast.steps import Warning, WarningCode
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.places import Volume
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.targets import Target, find_target
from rumbrel.core.workflows.deliver import (
    DeliveryPlan,
    Fate,
    deliver,
    leave_outs,
    plan_delivery,
    plan_put_right,
)
from rumbrel.core.workflows.fixity import ManifestError, manifest_line, read_manifest
from rumbrel.web.batches.models import Batch
from rumbrel.web.batches.queries import result_items
from rumbrel.web.batches.rows import after_text, now_text
from rumbrel.web.batches.services import ledger_for, result_file, results_folder, source_of
from rumbrel.web.collection.facts import kept_path
from rumbrel.web.collection.queries import known_tracks, pulled_ids
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.playlists.queries import listed_ids
from rumbrel.web.ui.words import counted

from ..models import Delivery, DeliveryItem, VolumeRow
from .hold_volumes import facts_on, root_of, start_look, volume_of
from .kept_elsewhere import same_sound_as

__all__ = [
    "DIGESTS",
    "PATTERNS",
    "RIGHT",
    "carry_out_delivery",
    "change_delivery",
    "digests_of_delivery",
    "foresee_delivery",
    "go_on_delivering",
    "leave_out_of",
    "make_delivery",
    "put_right",
    "start_delivery",
    "sources_offered",
    "take_back_in",
]

PATTERNS = {"": "", "numbered": "{number:03} {title}", "albums": "{album}/{track:02} {title}"}
RIGHT = "right"
_MOST_OFFERED = 40


def sources_offered() -> list[tuple[str, str]]:
    """(key, words) of everything that can be delivered."""
    pulled = len(pulled_ids())
    lists = Playlist.objects.filter(count__gt=0)[:_MOST_OFFERED]
    done = Batch.objects.filter(planned=True).defer("track_ids", "options").order_by("-pk")[:_MOST_OFFERED]
    found = [("pulled", f"the pull list, {counted(pulled, 'track')}")] if pulled else []
    found += [(f"playlist:{each.pk}", f"the playlist {each.name}, {counted(each.count, 'track')}") for each in lists]
    made = [(each, each.counts.get("done", 0) + each.counts.get("in part", 0)) for each in done]
    return found + [
        (f"batch:{each.pk}", f"the results of batch {each.pk}, {counted(count, 'file')}")
        for each, count in made
        if count
    ]


def make_delivery(
    *,
    row: VolumeRow,
    source: str,
    names: str = "",
    mirrors: bool = False,
    tidies: bool = False,
    with_digests: bool = False,
) -> Delivery:
    """Keep what is to be delivered, and have it foreseen. Raises OutputError for nothing to deliver."""
    kind, _, number = source.partition(":")
    track_ids: list[int] = []
    paths: list[str] = []
    list_name = ""
    if kind == "pulled":
        track_ids, title = pulled_ids(), "The pull list"
    elif kind == "playlist" and (playlist := Playlist.objects.filter(pk=int(number)).first()):
        track_ids, title, list_name = listed_ids(playlist.pk), playlist.name, playlist.name
    elif kind == "batch" and (batch := Batch.objects.filter(pk=int(number)).first()):
        files = [path for item in result_items(batch) if (path := result_file(batch, item)) is not None]
        paths, title = [str(path) for path in files], f"Results of batch {batch.pk}"
    else:
        raise OutputError("That is no longer there. Choose something else to deliver.")
    if not track_ids and not paths:
        raise OutputError("There is nothing in it to deliver. Choose something else.")
    return _kept(
        row, title=f"{title} to {row}", source=source, pattern=PATTERNS.get(names, ""), mirrors=mirrors,
        tidies=tidies, with_digests=with_digests, track_ids=track_ids, paths=paths, list_name=list_name,
    )  # fmt: skip


def put_right(*, row: VolumeRow, paths: Sequence[Path]) -> Delivery:
    """Make files on a volume anew that do not play there. Raises OutputError for none."""
    if not paths:
        raise OutputError("Every track on it plays. There is nothing to repair.")
    return _kept(row, title=f"Put {row} right", source=RIGHT, paths=[str(path) for path in paths])


def _kept(row: VolumeRow, **fields: object) -> Delivery:
    with transaction.atomic():
        delivery = Delivery.objects.create(volume=row, target_slug=row.target_slug, **fields)
        _queue(delivery, "foresee-delivery", f"Forecast: {delivery}")
    return delivery


def change_delivery(*, delivery: Delivery, tidies: bool | None = None, gives_up: bool | None = None) -> None:
    """Choose anew what becomes of what earlier deliveries left, or of originals that are nowhere else; then it is foreseen
    again. Raises OutputError once it was begun."""
    _not_begun(delivery)
    delivery.tidies = delivery.tidies if tidies is None else tidies
    delivery.gives_up = delivery.gives_up if gives_up is None else gives_up
    delivery.save(update_fields=["tidies", "gives_up"])
    _queue(delivery, "foresee-delivery", f"Forecast: {delivery}")


def _queue(delivery: Delivery, kind: str, title: str) -> Job:
    delivery.job = job = start_job(kind=kind, subject=delivery.pk, title=title)
    delivery.save(update_fields=["job", "started", "gone"])
    return job


@dataclass(frozen=True, slots=True, kw_only=True)
class _Wanted:
    """The sources of a delivery with what is known of them: their titles and tracks by the sources' ids, which are the
    numbers of its lines."""

    sources: tuple[Source, ...]
    lists: tuple[FoundList, ...]
    facts: Mapping[Path, Facts]
    titles: Mapping[int, str]
    tracks: Mapping[int, int]

    def inspect(self, path: Path) -> Facts:
        return self.facts.get(path) or inspect_file(path)


def _wanted(delivery: Delivery, target: Target) -> _Wanted:
    if delivery.track_ids:
        return _of_tracks(delivery, target)
    paths = [Path(path) for path in delivery.paths]
    folder = root_of(delivery.volume)
    if delivery.source.startswith("batch:"):
        batch = Batch.objects.filter(pk=int(delivery.source.partition(":")[2])).first()
        folder = results_folder(batch, paths) if batch else folder
    sources = tuple(
        Source(id=number, path=path, relative=Path(path.name) if not path.is_relative_to(folder) else path.relative_to(folder))
        for number, path in enumerate(paths, 1)
        if number not in delivery.left_out
    )  # fmt: skip
    return _Wanted(sources=sources, lists=(), facts={}, titles={}, tracks={})


def _of_tracks(delivery: Delivery, target: Target) -> _Wanted:
    known = {track.pk: track for track in known_tracks(list(dict.fromkeys(delivery.track_ids)))}
    sources: list[Source] = []
    facts: dict[Path, Facts] = {}
    titles, tracks, first, listed = {}, {}, dict[int, int](), []
    for number, pk in enumerate(delivery.track_ids, 1):
        if pk not in known or number in delivery.left_out:
            continue
        # A track that stands twice in a list is one file, but for players that want it twice.
        if pk in first and not target.playlists.folder_each:
            listed.append(first[pk])
            continue
        source, found = source_of(known[pk])
        sources.append(Source(id=number, path=source.path, relative=source.relative, part=source.part))
        facts[source.key] = found
        titles[number], tracks[number] = known[pk].title, pk
        first.setdefault(pk, number)
        listed.append(number)
    name = delivery.list_name.replace("/", "-").replace("\0", "")
    lists = (FoundList(path=Path(f"{name}.list"), relative=Path(f"{name}.list"), source_ids=tuple(listed)),)
    return _Wanted(sources=tuple(sources), lists=lists if name else (), facts=facts, titles=titles, tracks=tracks)


def _plan(delivery: Delivery, volume: Volume, target: Target) -> tuple[DeliveryPlan, _Wanted]:
    wanted = _wanted(delivery, target)
    if delivery.source == RIGHT:
        done = set(delivery.items.filter(state=DeliveryItem.State.DONE).values_list("number", flat=True))
        left = [(source.id, source.path) for source in wanted.sources if source.id not in done]
        known = {volume.root / path: facts for path, facts in facts_on(delivery.volume).items()}
        plan = plan_put_right(
            [path for _, path in left], target, volume,
            inspect=lambda path: known[path] if path in known and path.exists() else inspect_file(path),
            ids=[number for number, _ in left],
        )  # fmt: skip
        return _with_originals(delivery, plan), wanted
    plan = plan_delivery(
        wanted.sources, target, volume, lists=wanted.lists, inspect=wanted.inspect, ledger=ledger_for(volume.root),
        pattern=delivery.pattern, mirrors=delivery.mirrors, tidies=delivery.tidies,
    )  # fmt: skip
    return plan, wanted


def _aside_folder(row: VolumeRow) -> Path:
    name = str(row).replace("/", "-").replace("\0", "").strip(". ") or str(row.pk)
    return settings.RUMBREL.results / "Set aside from volumes" / name


def _place_aside(path: Path, wanted: Path, taken: Mapping[str, str]) -> Path:
    """The wanted place, numbered where something else lies there: another volume of the same name, or another file of it, may
    have come before. Raises DecodeError."""
    output, number = wanted, 1
    while str(output) in taken.values() or (output.exists() and file_digest(output) != file_digest(path)):
        number += 1
        output = wanted.with_name(f"{wanted.stem} ({number}){wanted.suffix}")
    return output


def _with_originals(delivery: Delivery, plan: DeliveryPlan) -> DeliveryPlan:
    """The plan with what becomes of each lossless file on the volume that something lossy takes the place of: it goes for
    good only where the collection has its sound, or where that was asked for."""
    steps, aside = [], dict[str, str]()
    for step in plan.steps:
        encoding = encoding_for(step.encoding) if step.action is Action.CONVERT else None
        if encoding is not None and step.source.lossless and not encoding.lossless:
            kept = same_sound_as(step.source, besides=plan.volume.root)
            path = Path(step.source.path)
            if kept is not None:
                said = f"The lossless file on the volume is removed; the collection has its sound in {kept.relative}."
            elif delivery.gives_up:
                said = "The lossless file on the volume is removed for good: the collection does not have its sound."
            else:
                output = _place_aside(path, _aside_folder(delivery.volume) / path.relative_to(plan.volume.root), aside)
                aside[step.source.path] = str(output)
                said = f"The collection does not have this lossless sound, so the file is set aside: {output}"
            step = replace(step, warnings=(*step.warnings, Warning(code=WarningCode.ORIGINAL_GOES, text=said)))
        steps.append(step)
    return replace(plan, steps=tuple(steps), set_aside=aside)


def foresee_delivery(desk: Desk, pk: int) -> str:
    """The forecast of a delivery, line by line."""
    delivery = Delivery.objects.select_related("volume").get(pk=pk)
    desk.report(Progress(done=0, total=0, unit=Unit.TRACKS, step="looking ahead"))
    target = find_target(delivery.target_slug)
    volume = volume_of(delivery.volume)
    bring_back(volume)
    plan, wanted = _plan(delivery, volume, target)
    _keep_forecast(delivery, plan, wanted)
    return f"{counted(len(plan.steps), 'track')} checked."


def _keep_forecast(delivery: Delivery, plan: DeliveryPlan, wanted: _Wanted) -> None:
    done = delivery.items.filter(state=DeliveryItem.State.DONE)
    items = [_item(delivery, plan, step, wanted) for step in plan.steps]
    order = {kept_path(path): number for path, number in plan.order.numbers.items()}
    for item in items:
        item.plays_as = order.get(item.output, 0)
    offers = [
        {
            "kind": offer.kind,
            "numbers": list(offer.source_ids),
            "saved_bytes": offer.saved_bytes,
            "proved": offer.proved,
        }
        for offer in leave_outs(plan)
    ]
    volume = plan.volume
    foreseen = {
        "needed_bytes": plan.needed_bytes, "short_bytes": plan.short_bytes, "free_bytes": volume.free_bytes,
        "capacity_bytes": volume.capacity_bytes, "fits": plan.fits, "offers": offers,
        "unwanted": [_on_volume(path, volume) for path in plan.unwanted],
        "left_over": [_on_volume(path, volume) for path in plan.left_over],
        "replaced": [_on_volume(path, volume) for path in plan.retired.values()],
        "lists": [_on_volume(str(planned.path), volume) for planned in plan.lists],
        "renamed": len(plan.renamed), "moved": plan.order.moved, "order_said": _order_said(plan),
        "set_aside": len(plan.set_aside), "aside_folder": str(_aside_folder(delivery.volume)),
        "goes": sum(any(w.code is WarningCode.ORIGINAL_GOES for w in step.warnings) for step in plan.steps),
    }  # fmt: skip
    with transaction.atomic():
        if delivery.source == RIGHT:
            delivery.items.exclude(pk__in=done).delete()
        else:
            delivery.items.all().delete()
        DeliveryItem.objects.bulk_create(items, batch_size=300)
        Delivery.objects.filter(pk=delivery.pk).update(foreseen=foreseen)
    delivery.foreseen = foreseen


def _order_said(plan: DeliveryPlan) -> str:
    """Where the player cannot play in the order that was asked for, and what to do; "" where it does."""
    wrong = plan.order.first_wrong
    if wrong is None or plan.retired:
        return ""
    first = f"{plan.target.device} does not play them in this order: {wrong.name} comes before its turn, since it"
    if plan.target.player.order == "names":
        return f"{first} goes by names. Number the names to keep the order."
    return f"{first} plays the files of a folder before the folders in it. Put them in one folder, with numbered names."


def _on_volume(path: str, volume: Volume) -> str:
    return kept_path(Path(path).relative_to(volume.root))


def _item(delivery: Delivery, plan: DeliveryPlan, step: Step, wanted: _Wanted) -> DeliveryItem:
    output = _on_volume(step.output, plan.volume) if step.output else ""
    title = wanted.titles.get(step.source_id) or step.source.tags.first("title") or Path(step.source.path).stem
    fate = plan.fate(step)
    shown, _ = shown_text(step.source, step.output or step.source.path, plan.target.player)
    state = {
        Fate.THERE: DeliveryItem.State.DONE,
        Fate.SAME: DeliveryItem.State.DONE,
        Fate.CANNOT: DeliveryItem.State.CANNOT,
    }
    return DeliveryItem(
        delivery=delivery, number=step.source_id, track_id=wanted.tracks.get(step.source_id), fate=fate,
        title=title.encode("utf-8", "replace").decode().replace("\0", " "),
        source=kept_path(Path(step.source.path)), reason=step.reason, output=output,
        shown=shown.encode("utf-8", "replace").decode(), now=now_text(step), after=after_text(step) if step.writes else "",
        taken_bytes=plan.taken_by(step), seconds=step.source.duration_seconds, warnings=warning_records(step.warnings),
        state=state.get(fate, DeliveryItem.State.WAITING),
    )  # fmt: skip


def leave_out_of(*, delivery: Delivery, numbers: Sequence[int]) -> None:
    """Leave lines out, and look ahead anew. Raises OutputError for all of them, and once it was begun."""
    _not_begun(delivery)
    left = set(delivery.items.values_list("number", flat=True)) - set(numbers)
    if not left:
        raise OutputError("Nothing would be left to deliver.")
    delivery.left_out = sorted({*delivery.left_out, *numbers})
    delivery.save(update_fields=["left_out"])
    _queue(delivery, "foresee-delivery", f"Forecast: {delivery}")


def take_back_in(*, delivery: Delivery) -> None:
    """Everything that was left out is wanted again. Raises OutputError once it was begun."""
    _not_begun(delivery)
    delivery.left_out = []
    delivery.save(update_fields=["left_out"])
    _queue(delivery, "foresee-delivery", f"Forecast: {delivery}")


def _not_begun(delivery: Delivery) -> None:
    if delivery.started:
        raise OutputError("It has been started already. Make a new delivery of what you want.")
    if delivery.busy:
        raise OutputError("The forecast is being made. Wait for it.")


def start_delivery(*, delivery: Delivery) -> Job:
    """Begin, or go on. Raises OutputError for one that does not fit, or is not foreseen yet."""
    if not delivery.foreseen or (delivery.busy and not delivery.started):
        raise OutputError("The forecast is being made. Wait for it.")
    if not delivery.foreseen["fits"]:
        raise OutputError("It does not fit. Leave tracks out, or remove something from the volume.")
    with transaction.atomic():
        again = (DeliveryItem.State.FAILED, DeliveryItem.State.PART)
        delivery.items.filter(state__in=again).update(state=DeliveryItem.State.WAITING, error="")
        delivery.started, delivery.gone = True, False
        return _queue(delivery, "deliver", str(delivery))


def go_on_delivering(*, row: VolumeRow) -> list[Delivery]:
    """What stopped when the volume was taken out goes on, now that it is back."""
    waiting = Delivery.objects.select_related("job").filter(volume=row, gone=True, started=True, finished_at=None)
    for delivery in waiting:
        start_delivery(delivery=delivery)
    return list(waiting)


def carry_out_delivery(desk: Desk, pk: int) -> str:
    """The work; returns what came of it. It goes on where it was: what is on the volume already stays."""
    delivery = Delivery.objects.select_related("volume").get(pk=pk)
    target = find_target(delivery.target_slug)
    try:
        volume = volume_of(delivery.volume)
    except OutputError:
        Delivery.objects.filter(pk=pk).update(gone=True)
        raise
    bring_back(volume)
    plan, wanted = _plan(delivery, volume, target)
    _as_foreseen(delivery, plan, wanted)
    work = settings.RUMBREL.volumes / f".making-{pk}"
    lists, order = [], None
    try:
        for result in deliver(plan, work, jobs=default_jobs(), report=desk.report):
            if isinstance(result, Ordered):
                order = result
            elif not isinstance(result, Delivered):
                lists.append(result.as_record())
            else:
                _keep(delivery, result)
            if isinstance(result, Delivered) and result.gone:
                Delivery.objects.filter(pk=pk).update(gone=True)
                raise OutputError(_said_of_gone(delivery))
        if delivery.with_digests:
            _write_digests(delivery, volume)
    except OutputError as error:
        if not volume.is_there and not Delivery.objects.filter(pk=pk, gone=True).exists():
            # Everything is on it, and the rest goes on from there.
            Delivery.objects.filter(pk=pk).update(gone=True)
            raise OutputError(f"{error} {_PLUG_IN}") from error
        raise
    finally:
        shutil.rmtree(work, ignore_errors=True)
    troubled = delivery.items.exclude(state=DeliveryItem.State.DONE)
    desk.failures = troubled.count() + sum(not record["ok"] for record in lists) + bool(order and not order.ok)
    Delivery.objects.filter(pk=pk).update(lists=lists, finished_at=timezone.now())
    start_look(row=delivery.volume)
    return _summary(delivery, order)


_PLUG_IN = "Plug it in again, and the delivery continues."
DIGESTS = "digests.sha256"
"""The list of digests on a volume, as sha256sum reads it."""


def _write_digests(delivery: Delivery, volume: Volume) -> None:
    """Beside what lies there, with those of files that were there already read now. Raises OutputError."""
    with output_errors(volume.root):
        for item in delivery.items.filter(state=DeliveryItem.State.DONE, sha256="").exclude(output=""):
            path = volume.root / item.output
            DeliveryItem.objects.filter(pk=item.pk).update(sha256=sha256_of(path))
        known: dict[str, str] = {}
        path = volume.root / DIGESTS
        if path.exists():
            with suppress(ManifestError, UnicodeDecodeError):
                known = {
                    name: digest for name, digest in read_manifest(path.read_text("utf-8")).items()
                    if (volume.root / name).exists()
                }  # fmt: skip
        known |= dict(digests_of_delivery(delivery))
    write_whole(path, "".join(manifest_line(digest, name) for name, digest in sorted(known.items())))


def digests_of_delivery(delivery: Delivery) -> list[tuple[str, str]]:
    """(path on the volume, SHA-256) of each of its files that is known to lie there."""
    done = delivery.items.filter(state=DeliveryItem.State.DONE).exclude(sha256="").order_by("output")
    return list(done.values_list("output", "sha256"))


def _said_of_gone(delivery: Delivery) -> str:
    done = delivery.items.filter(state=DeliveryItem.State.DONE).count()
    return (
        f"{delivery.volume} was taken out after {done:,} of {delivery.items.count():,} tracks. Nothing half-written is "
        f"left on it. {_PLUG_IN}"
    )


def _as_foreseen(delivery: Delivery, plan: DeliveryPlan, wanted: _Wanted) -> None:
    """What is about to be done is what was shown. Raises OutputError where it is not; then the new forecast stands."""
    items = {item.number: item for item in delivery.items.all()}
    unwanted = {_on_volume(path, plan.volume) for path in plan.unwanted}
    same = unwanted <= set(delivery.foreseen["unwanted"]) and plan.fits
    for step in plan.steps:
        item, fate = items.get(step.source_id), plan.fate(step)
        output = _on_volume(step.output, plan.volume) if step.output else ""
        if item is None or output != item.output:
            same = False
        elif item.state == DeliveryItem.State.DONE and fate in (Fate.MADE, Fate.COPIED, Fate.RENAMED):
            # It was there, and somebody took it away meanwhile.
            DeliveryItem.objects.filter(pk=item.pk).update(state=DeliveryItem.State.WAITING)
        elif item.state == DeliveryItem.State.WAITING and fate not in (item.fate, Fate.THERE, Fate.SAME):
            same = False
    if not same:
        _keep_forecast(delivery, plan, wanted)
        Delivery.objects.filter(pk=delivery.pk).update(started=False)
        raise OutputError(
            "The volume or the tracks changed after the forecast, so nothing was done. It was made again: look at it, "
            "then deliver."
        )


def _keep(delivery: Delivery, result: Delivered) -> None:
    item = delivery.items.filter(number=result.step.source_id)
    if result.ok:
        item.update(state=DeliveryItem.State.DONE, error="", digest=result.digest, sha256=result.sha256)
    elif result.partial:
        item.update(state=DeliveryItem.State.PART, error=result.error, digest=result.digest)
    elif not result.gone and result.step.action is not Action.REFUSE:
        item.update(state=DeliveryItem.State.FAILED, error=result.error)


def _summary(delivery: Delivery, order: Ordered | None) -> str:
    """What came of it. Only what is all there is called safe to remove without more words."""
    counts = dict(delivery.items.order_by().values_list("state").annotate(n=Count("pk")))
    done = delivery.items.filter(state=DeliveryItem.State.DONE)
    compared, renamed = done.exclude(digest="").count(), done.filter(digest="", fate=Fate.RENAMED).count()
    there = done.count() - compared - renamed
    said = f"{counted(compared, 'track')} brought to {delivery.volume} and compared there"
    if there:
        said += f", {there:,} there already"
    if renamed:
        said += f", {renamed:,} renamed there"
    if order and order.moved:
        said += f"; {counted(order.moved, 'entry', 'entries')} moved for the order, which was read again"
    for state in (DeliveryItem.State.PART, DeliveryItem.State.FAILED, DeliveryItem.State.CANNOT):
        if counts.get(state):
            said += f"; {counts[state]:,} {state}"
    if order and not order.ok:
        said += f". {order.error.rstrip('.')}"
    if any(counts.get(state) for state in (DeliveryItem.State.PART, DeliveryItem.State.FAILED)):
        return f"{said}. It can be removed, but not all is on it: press Retry failed."
    return f"{said}. It is safe to remove."
