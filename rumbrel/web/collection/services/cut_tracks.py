"""Tracks that are parts of one file: added on request, and kept in line with their file."""

from collections.abc import Iterable, Mapping
from pathlib import Path

from django.db import transaction
from django.utils import timezone

from rumbrel.core.disc.cue_sheet import CueFile, CueSheet
from rumbrel.core.errors import DecodeError, RumbrelError
from rumbrel.core.inspection import Facts
from rumbrel.core.inspection.stretches import Part, cut_out, part_of
from rumbrel.core.workflows.cut_tracks import Cutting, Described, cuttings_of, described_discs, parts_of_sheet
from rumbrel.web.ui.removal import holders_of

from ..facts import derived_columns, is_of, kept_facts, kept_path, search_words
from ..models import DeepLook, SourceFolder, Track, TrackFacts
from ..queries import facts_by_id
from .hear_track import see_that_it_is_there
from .recount import recount_folder
from .remove_missing import remove_tracks

__all__ = ["cut_track", "cuttings_for", "described_for", "join_track", "refresh_cuts", "tracks_of_sheet"]


def cuttings_for(track: Track, facts: Facts) -> list[Cutting]:
    """The ways in which a track can be cut that is whole and there as it was scanned."""
    return cuttings_of(facts) if _is_whole_and_there(track, facts) else []


def described_for(track: Track, facts: Facts) -> list[Described]:
    """The discs that cue sheets beside or inside such a track describe."""
    return described_discs(facts) if _is_whole_and_there(track, facts) else []


def _is_whole_and_there(track: Track, facts: Facts) -> bool:
    if track.missing_since or track.cut_of_id:
        return False
    try:
        see_that_it_is_there(facts)
    except RumbrelError:
        # What is wrong with the file stands elsewhere on its page.
        return False
    return True


def _find_cutting(track: Track, key: str) -> tuple[Facts, Cutting] | tuple[None, None]:
    """What is known of a file, and the way of that key to cut it; None for both where that is gone."""
    facts = facts_by_id([track.pk]).get(track.pk)
    found = next((each for each in cuttings_for(track, facts) if each.key == key), None) if facts else None
    return (facts, found) if facts and found else (None, None)


def cut_track(*, track: Track, key: str) -> list[int]:
    """Add the parts of a file as tracks, in place of those there were; returns their ids in order. Raises RumbrelError,
    also where lists would lose entries by it."""
    facts, found = _find_cutting(track, key)
    if facts is None or found is None:
        raise RumbrelError("The file can no longer be split that way. Show its page again.")
    if found.error:
        raise RumbrelError(found.error)
    wanted = {kept_path(Path(cut_out(facts, part).key)) for part in found.parts}
    going = list(track.cuts.exclude(path__in=wanted).values_list("pk", flat=True))
    held = [text for holder in holders_of("track") if (text := holder.said(going))] if going else []
    if held:
        raise RumbrelError(f"{' '.join(held)} Take the tracks that are there out of the collection first.")
    with transaction.atomic():
        remove_tracks(going)
        ids = [_keep(track, facts, part).pk for part in found.parts]
    recount_folder(folder=track.folder)
    return ids


def tracks_of_sheet(*, sheet: CueSheet, rows: Mapping[CueFile, Track], facts: Mapping[CueFile, Facts]) -> list[int]:
    """The tracks of a cue sheet in its order, by the files that it names: a file that is one track is that, of others
    the parts are added to the collection. Raises RumbrelError where a part does not lie in its file."""
    ids: dict[int, int] = {}
    with transaction.atomic():
        for file in dict.fromkeys(track.file for track in sheet.tracks):
            whole, tracks = rows[file], [track for track in sheet.tracks if track.file == file]
            parts = parts_of_sheet(sheet, tracks, facts[file])
            if len(parts) == 1 and parts[0].start_sample == 0:
                ids[tracks[0].number] = whole.pk
                continue
            for track, part in zip(tracks, parts, strict=True):
                ids[track.number] = _keep(whole, facts[file], part).pk
    for folder in {row.folder for row in rows.values()}:
        recount_folder(folder=folder)
    return [ids[track.number] for track in sheet.tracks]


def join_track(*, track: Track) -> int:
    """Take the parts of a file out of the collection and of everything that holds them; the file stays. Returns how
    many there were."""
    with transaction.atomic():
        removed = remove_tracks(list(track.cuts.values_list("pk", flat=True)))
    recount_folder(folder=track.folder)
    return removed


def _keep(whole: Track, facts: Facts, part: Part, row: Track | None = None) -> Track:
    """Write a part: where its file lies, and as its facts say. What a look told of another file is forgotten."""
    cut = cut_out(facts, part)
    path = kept_path(Path(cut.key))
    track = row or Track.objects.filter(path=path).first() or Track()
    track.path, track.folder_id, track.relative, track.cut_of = path, whole.folder_id, whole.relative, whole
    derived_columns(track, cut).save()
    data = {"data": kept_facts(cut), "words": search_words(track, cut)}
    TrackFacts.objects.update_or_create(track=track, defaults=data)
    look = DeepLook.objects.filter(track=track).first()
    if look is not None and not is_of(look, cut):
        look.delete()
    return track


def refresh_cuts(*, folder: SourceFolder) -> None:
    """Bring the parts of a folder's files into line with these, wherever they lie by now. A part that does not lie
    in its file any more is missing."""
    for whole in Track.objects.filter(folder=folder, cuts__isnull=False).distinct():
        cuts = list(whole.cuts.all())
        facts = facts_by_id([whole.pk, *(cut.pk for cut in cuts)])
        if whole.missing_since is not None or not facts[whole.pk].usable:
            _lose(cuts)
            continue
        for cut in cuts:
            part = part_of(facts[cut.pk])
            try:
                if part is not None and not _in_line(cut, whole, facts[cut.pk], facts[whole.pk]):
                    _keep(whole, facts[whole.pk], part, cut)
            except DecodeError:
                _lose([cut])


def _in_line(cut: Track, whole: Track, of_part: Facts, of_file: Facts) -> bool:
    names = ["path", "size_bytes", "modified_ns"] + ([] if of_part.one_of_sounds else ["sound_index"])
    there = all(getattr(of_part, name) == getattr(of_file, name) for name in names)
    same = (cut.folder_id, cut.relative, cut.facts_version) == (whole.folder_id, whole.relative, whole.facts_version)
    return there and same and cut.missing_since is None


def _lose(cuts: Iterable[Track]) -> None:
    ids = [cut.pk for cut in cuts if cut.missing_since is None]
    Track.objects.filter(pk__in=ids).update(missing_since=timezone.now(), fault="missing", usable=False, whole=False)
