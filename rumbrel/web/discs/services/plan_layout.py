"""A disc laid out from its design and what is kept of its sounds: no file is opened, so that every change shows at once."""

import hashlib
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from rumbrel.core.conversion.levelling import Measured
from rumbrel.core.disc.checklist import Finding
from rumbrel.core.disc.data_disc import album_folders
from rumbrel.core.disc.design import DiscDesign, DiscKind
from rumbrel.core.disc.layout import DiscTrack
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import Action
from rumbrel.core.forecast.naming import pattern_values
from rumbrel.core.inspection import Facts
from rumbrel.core.records import from_record
from rumbrel.core.sound.analysis import Ends, State
from rumbrel.core.sound.dither import FLAT
from rumbrel.core.sound.level import Level
from rumbrel.core.tags import EMPTY_TAGS
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.design_data import DataPlan, FileToCome, data_offers, plan_data
from rumbrel.core.workflows.design_disc import DesignPlan, plan_design
from rumbrel.core.workflows.disc_sounds import Sound
from rumbrel.core.workflows.offer_disc import DesignOffer, design_offers
from rumbrel.web.batches.services import plan_for
from rumbrel.web.batches.wishes import BatchWish
from rumbrel.web.collection.queries import KnownTrack, known_tracks

from ..models import Disc, Meeting, SoundMeasure

__all__ = ["NOT_THERE", "PlannedDisc", "files_of", "mark_of", "meetings_of", "plan_layout", "sounds_of"]

NOT_THERE = "Its file is no longer there. Connect its disk, then scan its folder again."


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedDisc:
    """A design laid out in time, or as files in bytes, and the mark of what would be written."""

    design: DiscDesign
    sounds: Mapping[int, Sound]
    files: Mapping[int, FileToCome]
    plan: DesignPlan | DataPlan
    mark: str

    @property
    def failed(self) -> Finding | None:
        """Why the disc may not be written, None where it may."""
        return self.plan.failed

    @property
    def findings(self) -> tuple[Finding, ...]:
        return self.plan.findings

    @property
    def writable(self) -> bool:
        return self.plan.writable

    @property
    def audio(self) -> DesignPlan:
        """Raises DiscError for a disc of files."""
        if not isinstance(self.plan, DesignPlan):
            raise DiscError("This is a disc of files. Choose that it shall play on a standard player first.")
        return self.plan

    def offers(self) -> tuple[DesignOffer, ...]:
        """What would make it fit."""
        if isinstance(self.plan, DesignPlan):
            return design_offers(self.plan, self.sounds)
        return data_offers(self.plan, self.files)


def plan_layout(*, disc: Disc, design: DiscDesign | None = None) -> PlannedDisc:
    """Lay out a disc as it is, or as a design would have it. A track that cannot be used whole has a line with the
    reason, and keeps the disc from being written."""
    chosen = design or disc.design
    if chosen.kind is DiscKind.AUDIO:
        sounds = sounds_of(chosen)
        plan = plan_design(chosen, sounds, meetings=meetings_of(chosen, sounds))
        hidden = plan.layout.hidden
        lines = [_as_written(track) for track in plan.layout.tracks]
        # Discs written before dither and the CD-Text could be chosen have the usual ones, and their marks stay true.
        later: list[object] = [chosen.dither] if chosen.dither != FLAT else []
        later += [chosen.cd_text] if chosen.cd_text != "all" else []
        later += [sorted(chosen.spellings.items())] if chosen.spellings else []
        later += ["japanese"] if chosen.japanese else []
        mark = _hashed((plan.layout.medium.key, lines, hidden and hidden.path, plan.text, *later))
        return PlannedDisc(design=chosen, sounds=sounds, files={}, plan=plan, mark=mark)
    files = files_of(chosen)
    data = plan_data(chosen, files)
    names = [(row.number, row.file.folder, row.file.name) for row in data.rows if row.sectors]
    later = [chosen.name_pattern] * bool(chosen.name_pattern)
    mark = _hashed((chosen.kind, data.medium.key, chosen.target_slug, chosen.numbered, names, *later))
    return PlannedDisc(design=chosen, sounds={}, files=files, plan=data, mark=mark)


def _as_written(track: DiscTrack) -> tuple[object, ...]:
    """What of a track comes onto the disc; not what measuring says of it, which may become known at any time."""
    sound = track.programme
    return (
        track.number, track.start_sector, track.sectors, track.gap_sectors, track.runs_on, track.index_sectors, sound.path,
        sound.choice, sound.start_sample, sound.samples, round(sound.gain_db, 6), sound.copy_permitted, sound.pre_emphasis,
        sound.isrc, *((track.lead_sectors,) if sound.lead else ()),
        *((sound.lead.path, sound.lead.choice) if sound.lead and sound.lead.path != sound.path else ()),
    )  # fmt: skip


def _hashed(values: object) -> str:
    """Equal for discs that would be written alike."""
    return hashlib.sha256(repr(values).encode("utf-8", "surrogateescape")).hexdigest()


def mark_of(facts: Facts) -> str:
    """What a measure is true of: a version of a file, and which part of it."""
    return f"{facts.size_bytes}-{facts.modified_ns}-{facts.sound_index}{facts.part}"


def sounds_of(design: DiscDesign) -> dict[int, Sound]:
    """What is known of a design's sounds, by their tracks' ids. Powers of blocks are read where levels need them."""
    ids = list(design.sound_ids)
    rows = SoundMeasure.objects.filter(track_id__in=ids)
    if design.level == "none":
        rows = rows.defer("powers")
    kept = {row.pk: row for row in rows}
    found = {}
    for track in known_tracks(ids):
        row = kept.get(track.pk)
        current = row is not None and track.facts is not None and row.mark == mark_of(track.facts)
        found[track.pk] = Sound(
            facts=track.facts,
            title=track.title or Path(track.relative).stem,
            measured=_measured(row, powers=design.level != "none") if row is not None and current else None,
            reason=NOT_THERE if track.missing else "",
        )
    return found


def _measured(row: SoundMeasure, *, powers: bool) -> Measured | None:
    """None for one that does not decode: the write says what is wrong with it."""
    if not row.data:
        return None
    data = json.loads(row.data)
    return Measured(
        level=from_record(Level, data["level"]),
        block_powers=np.frombuffer(bytes(row.powers), dtype="<f8") if powers else np.zeros(0),
        ends=from_record(Ends, data["ends"]),
        state=from_record(State, data["state"]),
        samples=data["samples"],
    )


def meetings_of(design: DiscDesign, sounds: Mapping[int, Sound]) -> set[tuple[int, int]]:
    """Neighbours of a design that were found to be one recording, and whose files are still the same."""
    kept = [track.source_id for track in design.kept]
    pairs = set(zip(kept, kept[1:], strict=False))
    found = Meeting.objects.filter(before__in=kept, meets=True).values_list("before_id", "after_id", "mark")
    return {
        (before, after) for before, after, mark in found
        if (before, after) in pairs and mark == pair_mark(sounds.get(before), sounds.get(after))
    }  # fmt: skip


def pair_mark(before: Sound | None, after: Sound | None) -> str:
    """What a meeting is true of; "" where there is nothing to compare."""
    if before is None or after is None or before.facts is None or after.facts is None:
        return ""
    return f"{mark_of(before.facts)}|{mark_of(after.facts)}"


def files_of(design: DiscDesign) -> dict[int, FileToCome]:
    """The files that a design's tracks are, or will be when they are made for its target."""
    tracks = known_tracks(list({track.source_id for track in design.tracks}))
    if design.kind is DiscKind.DATA:
        folders = _folders(tracks)
        return {track.pk: _as_it_is(track, folders[track.pk]) for track in tracks}
    return _made_for(design, tracks)


def _as_it_is(track: KnownTrack, folder: str) -> FileToCome:
    facts = track.facts
    reason = NOT_THERE if track.missing or facts is None else ""
    if facts is not None and facts.is_part and not reason:
        reason = "It is a part of a longer file. Put that on the disc, or make files for a player."
    return FileToCome(
        title=track.title, performer=facts.tags.first("artist") if facts else "", folder=folder,
        name=Path(facts.path if facts else track.relative).name, size_bytes=facts.size_bytes if facts else 0,
        exact=True, action="as it is", reason=reason, seconds=facts.duration_seconds if facts else 0.0,
        values=_values_of(track),
    )  # fmt: skip


def _values_of(track: KnownTrack) -> Mapping[str, str | int | None]:
    """What a pattern of names finds of a track; its title is the collection's."""
    if track.facts is None:
        return {}
    return {**pattern_values(Path(track.relative), track.facts, number=0), "title": track.title}


def _folders(tracks: Sequence[KnownTrack]) -> dict[int, str]:
    """The folder of each that its player walks: of the album, or named as its own."""
    albums = []
    for track in tracks:
        tags = track.facts.tags if track.facts else EMPTY_TAGS
        album = tags.first("album") or Path(track.relative).parent.name
        albums.append((album, tags.first("album_artist") or tags.first("artist")))
    return dict(zip((track.pk for track in tracks), album_folders(albums), strict=True))


_ACTIONS = {
    Action.COPY: "as it is",
    Action.REWRAP: "re-wrapped",
    Action.CONVERT: "converted",
    Action.SKIP: "made before",
}


def files_wish(design: DiscDesign) -> BatchWish:
    """What is made for a disc of compressed files: results as a batch makes them, in the folder of results. A name
    proves nothing there: what is not known to be of its source is not taken for it."""
    return BatchWish(targets=(find_target(design.target_slug),), keeps_in_line=True)


_NUMBER = re.compile(r" \(\d+\)$")


def _unnumbered(output: Path, own_stem: str) -> str:
    """The name of a result without the number that it has among results of its name: a disc's names are its list's, and
    not of what lies in the folder of results already."""
    number = _NUMBER.search(output.stem)
    if number is None or own_stem.endswith(number.group()):
        return output.name
    return f"{output.stem[: number.start()]}{output.suffix}"


def _made_for(design: DiscDesign, tracks: Sequence[KnownTrack]) -> dict[int, FileToCome]:
    known, folders = {track.pk: track for track in tracks}, _folders(tracks)
    found = {}
    for step in plan_for(tracks, files_wish(design)).steps:
        track = known[step.source_id]
        output = Path(step.output)
        there = step.action is Action.SKIP and output.is_file()
        size = output.stat().st_size if there else step.after.size_bytes if step.after else step.source.size_bytes
        found[track.pk] = FileToCome(
            title=track.title, performer=track.facts.tags.first("artist") if track.facts else "",
            folder=folders[track.pk], name=_unnumbered(output, Path(track.relative).stem), size_bytes=size, exact=there or step.action is Action.COPY,
            action=_ACTIONS.get(step.action, ""), reason=step.reason if step.action is Action.REFUSE else "",
            seconds=track.facts.duration_seconds if track.facts else 0.0, values=_values_of(track),
        )  # fmt: skip
    return found
