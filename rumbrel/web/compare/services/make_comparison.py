"""Make the voices of a comparison in the background."""

import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction

from rumbrel.core.crew import default_jobs
from rumbrel.core.errors import RumbrelError
from rumbrel.core.forecast import Step, WhenPresent
from rumbrel.core.records import as_record, from_record
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.core.targets.ways import made_otherwise, ways_of
from rumbrel.core.workflows.compare import MOST_VOICES, Excerpt, Voice, VoiceTask, compare_voices
from rumbrel.core.workflows.convert import measure_plan
from rumbrel.web.batches.models import Item
from rumbrel.web.batches.services import plan_for, result_file
from rumbrel.web.batches.steps import restored_step
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.models import Track
from rumbrel.web.collection.queries import facts_by_id, known_tracks, pulled_ids
from rumbrel.web.collection.services import see_that_it_is_there
from rumbrel.web.jobs.services import Desk, start_job

from ..models import Comparison

__all__ = ["carry_out_comparison", "comparison_folder", "start_comparison", "voices_offered"]

_MOST_KEPT = 20
_MOST_RESULTS = 30
_WAYS_OF = ("average-mp3", "pocket-aac", "open-opus", "open-vorbis")
"""Whose ways of making are offered beside the targets: one for each usual lossy coding."""


def comparison_folder(comparison: Comparison) -> Path:
    return settings.RUMBREL.listening / "compared" / str(comparison.pk)


def voices_offered(
    track: Track, chosen: Sequence[str] = (), wish: BatchWish | None = None
) -> list[tuple[str, list[tuple[str, str]]]]:
    """(heading, choices) of what a track can be heard against; with the ways of those targets that are chosen so, and with
    what a forecast would make of it."""
    made = Item.objects.filter(track_id=track.pk, state__in=(Item.State.DONE, Item.State.PART)).exclude(output="")
    results = [
        (f"item:{item.pk}", f"{item.after} kbit/s, batch {item.batch_id}")
        for item in made.defer("step").order_by("-pk")[:_MOST_RESULTS]
    ]
    known = {target.slug: target for target in all_targets()}
    groups = [("Results", results)] if results else []
    if wish is not None:
        foreseen = [(f"forecast:{target.slug}", f"{target.name}, as forecast") for target in wish.all_targets]
        groups.insert(0, ("Forecast", foreseen))
    groups.append(("Targets", [(f"target:{slug}", target.name) for slug, target in known.items()]))
    asked = [parts[1] for key in chosen if len(parts := key.split(":")) == 3 and parts[0] == "way"]
    for slug in dict.fromkeys((*_WAYS_OF, *asked)):
        if slug in known and (ways := ways_of(known[slug])):
            labels = [(f"way:{slug}:{way.key}", way.label) for way in ways]
            groups.append((f"Other settings for {known[slug].name}", labels))
    return groups


def start_comparison(
    *, track: Track, settings_chosen: Sequence[str], start_seconds: float, seconds: float, wish: BatchWish | None = None
) -> Comparison:
    """Queue the making of up to six voices. What a forecast would make is heard at the level it will have. Raises RumbrelError
    for what cannot be heard or is not offered."""
    facts = facts_by_id([track.pk]).get(track.pk)
    if facts is None or not facts.usable:
        raise RumbrelError("There is no sound in this track that could be compared.")
    see_that_it_is_there(facts)
    chosen = list(dict.fromkeys(settings_chosen))
    if not chosen or len(chosen) >= MOST_VOICES:
        raise RumbrelError(f"Choose one to {MOST_VOICES - 1} sounds to compare with the source.")
    voices: list[dict[str, Any]] = [{"label": "The source"}, *(_voice(track, key, wish) for key in chosen)]
    start = max(0.0, min(start_seconds, facts.duration_seconds - min(seconds, facts.duration_seconds)))
    with transaction.atomic():
        comparison = Comparison.objects.create(
            track=track, start_seconds=start, seconds=min(seconds, facts.duration_seconds), voices=voices,
            wish=_kept_wish(track, wish) if wish else {},
            matches_levels=not any(key.startswith("forecast:") for key in chosen),
        )  # fmt: skip
        comparison.job = start_job(kind="compare", subject=comparison.pk, title=f"Comparison: {track}")
        comparison.save(update_fields=["job"])
    return comparison


def _kept_wish(track: Track, wish: BatchWish) -> dict[str, Any]:
    """With the tracks that its level depends on: of an album those beside it, which are pulled too."""
    beside = Track.objects.filter(pk__in=pulled_ids(), folder=track.folder_id, directory=track.directory)
    ids = list(dict.fromkeys([track.pk, *beside.values_list("pk", flat=True)]))
    return {"targets": as_record(wish.targets), "options": wish.as_record(), "track_ids": ids}


def _voice(track: Track, key: str, wish: BatchWish | None) -> dict[str, Any]:
    kind, _, rest = key.partition(":")
    labels = {value: label for _, choices in voices_offered(track, [key], wish) for value, label in choices}
    if key not in labels:
        raise RumbrelError("One of the chosen sounds is no longer offered. Choose again.")
    if kind == "item":
        return {"key": key, "label": labels[key], "item": int(rest)}
    if kind == "forecast":
        return {"key": key, "label": labels[key], "forecast": rest}
    slug, _, way = rest.partition(":")
    target = made_otherwise(listed_target(slug), way)
    return {"key": key, "label": labels[key], "target": as_record(target)}


def carry_out_comparison(desk: Desk, comparison_id: int) -> str:
    """The work: every voice as a file to be heard, with its picture."""
    comparison = Comparison.objects.select_related("track").get(pk=comparison_id)
    facts = facts_by_id([comparison.track_id])[comparison.track_id]
    folder = comparison_folder(comparison)
    excerpt = Excerpt(facts=facts, start_seconds=comparison.start_seconds, seconds=comparison.seconds, folder=folder)
    steps = _steps(comparison, desk) if comparison.wish else {}
    tasks = [_task(number, voice, excerpt, steps) for number, voice in enumerate(comparison.voices)]
    found: list[Voice] = []
    for event in compare_voices(tasks, jobs=default_jobs()):
        if isinstance(event, Voice):
            found.append(event)
        else:
            desk.report(event)
    for made in folder.glob("made-*"):
        shutil.rmtree(made, ignore_errors=True)
    Comparison.objects.filter(pk=comparison_id).update(found=as_record(found))
    _sweep()
    wrong = sum(bool(voice.error) for voice in found)
    return (
        f"{len(found) - wrong} sounds made."
        if not wrong
        else f"{len(found) - wrong} sounds made; {wrong} could not be made."
    )


def _steps(comparison: Comparison, desk: Desk) -> dict[str, Step]:
    """What the forecast's batch would do with the track, for each target, with the gain and the ends that it will have."""
    kept = comparison.wish
    wish = replace(BatchWish.restored(kept["targets"], kept["options"]), when_present=WhenPresent.REPLACE)
    plan = measure_plan(
        plan_for(known_tracks(kept["track_ids"]), wish), jobs=default_jobs(), report=desk.report, holds=desk.holding
    )
    return {step.target.slug: step for step in plan.steps if step.source_id == comparison.track_id}


def _task(number: int, voice: dict[str, Any], excerpt: Excerpt, steps: Mapping[str, Step]) -> VoiceTask:
    if "forecast" in voice:
        return VoiceTask(number=number, excerpt=excerpt, step=steps[voice["forecast"]])
    if "target" in voice:
        return VoiceTask(number=number, excerpt=excerpt, target=from_record(Target, voice["target"]))
    if "item" not in voice:
        return VoiceTask(number=number, excerpt=excerpt)
    item = Item.objects.select_related("batch").filter(pk=voice["item"]).first()
    path = result_file(item.batch, item) if item else None
    begins = 0.0
    if item is not None:
        wish = BatchWish.restored(item.batch.targets, item.batch.options)
        target = next(target for target in wish.all_targets if target.slug == item.target_slug)
        treatment = restored_step(item.step, target).treatment
        begins = treatment.start_sample / excerpt.facts.sample_rate
    return VoiceTask(number=number, excerpt=excerpt, result=path or Path("gone"), begins_seconds=begins)


def _sweep() -> None:
    """The newest are kept."""
    kept = {str(pk) for pk in Comparison.objects.order_by("-pk").values_list("pk", flat=True)[:_MOST_KEPT]}
    for folder in (settings.RUMBREL.listening / "compared").glob("*"):
        if folder.name not in kept:
            shutil.rmtree(folder, ignore_errors=True)
