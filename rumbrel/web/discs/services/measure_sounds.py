"""Measure the sounds of a disc in the background: levels, silence at the ends, state, and which neighbours are one
recording."""

import json
from collections.abc import Sequence

from django.db import transaction

from rumbrel.core.conversion.levelling import Measured, measure_all
from rumbrel.core.crew import default_jobs
from rumbrel.core.disc.red_book import CHANNELS
from rumbrel.core.inspection import Facts
from rumbrel.core.progress import Progress, Unit, within
from rumbrel.core.records import as_record
from rumbrel.core.workflows.disc_sounds import Sound
from rumbrel.core.workflows.find_joins import find_meetings, may_meet, touching
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job
from rumbrel.web.ui.words import counted

from ..models import Disc, Meeting, SoundMeasure
from .plan_layout import mark_of, pair_mark, sounds_of

__all__ = ["measure_sounds", "start_measuring"]

_A_TURN = 24
"""So many are measured before they are kept: a stop loses no more."""


def start_measuring(*, disc: Disc) -> Job | None:
    """Queue what is not known yet; None where all is."""
    sounds = sounds_of(disc.design)
    if not _unmeasured(sounds) and not _unmet(disc, sounds):
        return None
    job = start_job(kind="disc-measure", subject=disc.pk, title=f"Measure the sounds of {disc}", once_more=True)
    Disc.objects.filter(pk=disc.pk).update(measuring=job)
    return job


def _unmeasured(sounds: dict[int, Sound]) -> list[tuple[int, Facts]]:
    """What can be measured and was not, nor failed to be."""
    known = dict(SoundMeasure.objects.filter(track_id__in=list(sounds)).values_list("track_id", "mark"))
    return [
        (pk, sound.facts) for pk, sound in sounds.items()
        if sound.facts is not None and sound.facts.usable and not sound.reason and known.get(pk) != mark_of(sound.facts)
    ]  # fmt: skip


def _unmet(disc: Disc, sounds: dict[int, Sound]) -> list[tuple[tuple[int, int], Facts, Facts]]:
    kept = [track.source_id for track in disc.design.kept]
    known = {
        (b, a): mark
        for b, a, mark in Meeting.objects.filter(before__in=kept).values_list("before_id", "after_id", "mark")
    }
    found = []
    for before, after in dict.fromkeys(zip(kept, kept[1:], strict=False)):
        one, other = sounds.get(before), sounds.get(after)
        if one is None or other is None or one.facts is None or other.facts is None or one.reason or other.reason:
            continue
        if not (one.facts.usable and other.facts.usable) or touching(one.facts, other.facts):
            continue
        if may_meet(one.facts, other.facts) and known.get((before, after)) != pair_mark(one, other):
            found.append(((before, after), one.facts, other.facts))
    return found


def measure_sounds(desk: Desk, disc_id: int) -> str:
    """Measure what is not known of a disc's sounds; returns what was done, in a sentence. Safe to run twice."""
    disc = Disc.objects.get(pk=disc_id)
    sounds = sounds_of(disc.design)
    tasks, pairs = _unmeasured(sounds), _unmet(disc, sounds)
    total = sum(facts.duration_seconds for _, facts in tasks)
    whole = Progress(done=0, total=max(1.0, total), unit=Unit.SECONDS, step="measuring", items=len(tasks))
    share, failed = 0.0, 0
    for start in range(0, len(tasks), _A_TURN):
        turn = tasks[start : start + _A_TURN]
        part = sum(facts.duration_seconds for _, facts in turn) / max(1.0, total)
        found = measure_all(
            [(facts, CHANNELS) for _, facts in turn], jobs=default_jobs(),
            report=within(desk.report, whole, 0.9 * share, 0.9 * (share + part)),
        )  # fmt: skip
        share += part
        failed += _keep_measures(turn, [found.get((facts.key, CHANNELS)) for _, facts in turn])
    for event in find_meetings(pairs, jobs=default_jobs()):
        if isinstance(event, Progress):
            desk.report(event)
        else:
            (before, after), meets = event
            mark = pair_mark(sounds[before], sounds[after])
            Meeting.objects.update_or_create(before_id=before, after_id=after, defaults={"mark": mark, "meets": meets})
    said = f"{counted(len(tasks) - failed, 'sound')} measured"
    return f"{said}, {failed:,} could not be." if failed else f"{said}."


def _keep_measures(turn: Sequence[tuple[int, Facts]], found: Sequence[Measured | None]) -> int:
    """Keep them; returns how many could not be measured."""
    with transaction.atomic():
        for (pk, facts), measured in zip(turn, found, strict=True):
            SoundMeasure.objects.update_or_create(
                track_id=pk,
                defaults={
                    "mark": mark_of(facts),
                    "data": _record(measured) if measured else "",
                    "powers": measured.block_powers.astype("<f8").tobytes() if measured else b"",
                },
            )
    return sum(1 for measured in found if measured is None)


def _record(measured: Measured) -> str:
    return json.dumps(
        {
            "level": as_record(measured.level), "ends": as_record(measured.ends), "state": as_record(measured.state),
            "samples": measured.samples,
        }
    )  # fmt: skip
