"""A volume as its player sees it: in which order it plays, what its display shows, and what it stumbles over."""

import unicodedata
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts
from rumbrel.core.places import Volume, VolumeEntry
from rumbrel.core.places.file_systems import file_system_for
from rumbrel.core.playlists import LIST_SUFFIXES
from rumbrel.core.targets import Fit, FitKind, Target, fit_to
from rumbrel.core.targets.model import PlayerRule
from rumbrel.core.verdict import Verdict

__all__ = [
    "ASIDE",
    "PlayedTrack",
    "PlayerCheck",
    "by_names",
    "is_list",
    "is_sound",
    "player_checks",
    "played_tracks",
    "shown_text",
]


ASIDE = "Being put in order"
"""The folder of a volume in which entries wait for their turn while they are put in order."""


def is_sound(path: Path) -> bool:
    """By its ending: what a player lists."""
    return path.suffix.lower() in SOUND_SUFFIXES


def is_list(path: Path) -> bool:
    return path.suffix.lower() in LIST_SUFFIXES


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayedTrack:
    """A sound file as the player comes to it, the how-manieth and with what its display shows of it. cut says that
    the display shows only its beginning; cover that it shows a picture."""

    number: int
    entry: VolumeEntry
    facts: Facts
    fit: Fit
    shown: str
    cut: bool
    cover: bool

    @property
    def plays(self) -> bool:
        return self.fit.kind is FitKind.PLAYS

    @property
    def folder(self) -> str:
        parent = self.entry.relative.parent.as_posix()
        return "" if parent == "." else parent


@dataclass(frozen=True, slots=True, kw_only=True)
class PlayerCheck:
    """One question about a volume and its player: its verdict, what was found, and what to do."""

    what: str
    verdict: Verdict
    found: str
    remedy: str = ""


def shown_text(facts: Facts, name: str, rule: PlayerRule) -> tuple[str, bool]:
    """(what the display shows of a track, whether it is cut). A track without a title is shown by its file name."""
    title, performer = facts.tags.first("title"), facts.tags.first("artist")
    text = Path(name).stem
    if rule.shows == "tags" and title:
        text = f"{title} – {performer}" if performer else title
    text = "".join(sign for sign in text if unicodedata.category(sign) not in ("Cc", "Cf"))
    if rule.display_signs is None or len(text) <= rule.display_signs:
        return text, False
    return text[: rule.display_signs].rstrip(), True


def by_names(path: Path) -> tuple[tuple[int, str], ...]:
    """A key that sorts the files of a folder by name before its folders by name, as a walk meets them."""
    *folders, name = path.parts
    return (*((1, folder.casefold()) for folder in folders), (0, name.casefold()))


def played_tracks(
    entries: Sequence[VolumeEntry], facts: Mapping[Path, Facts], target: Target
) -> tuple[PlayedTrack, ...]:
    """Sound files in the order in which the player plays them. entries are as list_volume gives them; a file whose
    facts are not known is passed over."""
    by_name = target.player.order == "names"
    ordered = sorted(entries, key=lambda entry: by_names(entry.relative)) if by_name else list(entries)
    played: list[PlayedTrack] = []
    for entry in ordered:
        found = facts.get(entry.relative)
        if found is None:
            continue
        shown, cut = shown_text(found, entry.relative.name, target.player)
        played.append(
            PlayedTrack(
                number=len(played) + 1, entry=entry, facts=found, fit=fit_to(found, target), shown=shown, cut=cut,
                cover=target.tags.covers != "none" and any(_shows(cover.size_bytes, target) for cover in found.tags.covers),
            )
        )  # fmt: skip
    return tuple(played)


def _shows(cover_bytes: int, target: Target) -> bool:
    return target.tags.cover_bytes is None or cover_bytes <= target.tags.cover_bytes


def player_checks(
    volume: Volume, entries: Sequence[VolumeEntry], played: Sequence[PlayedTrack], target: Target
) -> tuple[PlayerCheck, ...]:
    """Everything about the volume that the player may refuse or not show, each with what to do about it."""
    return (
        _file_system(volume, target),
        _size(volume, target),
        _depth(entries, target),
        _full_folders(entries, target),
        _count(played, target),
        _names(volume, entries, target),
        _tracks(played, target),
        _covers(played, target),
        _lists(entries, target),
        *_order(entries, target),
    )


def _order(entries: Sequence[VolumeEntry], target: Target) -> tuple[PlayerCheck, ...]:
    """Only where putting in order was cut off."""
    waiting = [entry for entry in entries if ASIDE in entry.relative.parts]
    if not waiting:
        return ()
    found = f"cut off: {len(waiting):,} files wait in {ASIDE}, and {target.device} plays them from there"
    remedy = "Deliver again. The files go back into their folder, in the order of that delivery."
    return (PlayerCheck(what="Order", verdict=Verdict.DOUBTFUL, found=found, remedy=remedy),)


def _passed(what: str, found: str) -> PlayerCheck:
    return PlayerCheck(what=what, verdict=Verdict.PASSED, found=found)


def _nothing(what: str, found: str) -> PlayerCheck:
    return PlayerCheck(what=what, verdict=Verdict.NOT_APPLICABLE, found=found)


def _file_system(volume: Volume, target: Target) -> PlayerCheck:
    label, reads = volume.system.label, target.player.file_systems
    if not reads or volume.system.key in reads:
        return _passed("File system", label)
    wanted = " or ".join(file_system_for(key).label for key in reads)
    return PlayerCheck(
        what="File system", verdict=Verdict.FAILED, found=f"{label}; {target.device} reads {wanted}",
        remedy=f"Format it with {wanted}. Everything on it is lost then.",
    )  # fmt: skip


def _size(volume: Volume, target: Target) -> PlayerCheck:
    gigabytes, most = volume.capacity_bytes / 1e9, target.player.largest_volume_gb
    if most is None or gigabytes <= most:
        return _passed("Size", f"{gigabytes:.3g} GB")
    return PlayerCheck(
        what="Size", verdict=Verdict.DOUBTFUL, found=f"{gigabytes:.3g} GB; {target.device} knows volumes of up to {most} GB",
        remedy="Use a smaller one, or try this one in the player first.",
    )  # fmt: skip


def _few(names: Sequence[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3:,} more" if len(names) > 3 else "")


def _depth(entries: Sequence[VolumeEntry], target: Target) -> PlayerCheck:
    deepest, most = max((len(entry.relative.parts) - 1 for entry in entries), default=0), target.player.deepest_folders
    said = f"{deepest} deep"
    if most is None or deepest <= most:
        return _passed("Folder depth", said)
    deep = [entry.relative.as_posix() for entry in entries if len(entry.relative.parts) - 1 > most]
    return PlayerCheck(
        what="Folder depth", verdict=Verdict.FAILED, found=f"{said}, {target.device} walks {most}: {_few(deep)}",
        remedy="Deliver those again with a pattern of fewer folders.",
    )  # fmt: skip


def _full_folders(entries: Sequence[VolumeEntry], target: Target) -> PlayerCheck:
    members: dict[Path, set[str]] = {}
    for entry in entries:
        parts = entry.relative.parts
        for depth, name in enumerate(parts):
            members.setdefault(Path(*parts[:depth]), set()).add(name)
    fullest, most = max((len(names) for names in members.values()), default=0), target.player.most_in_folder
    said = f"at most {fullest:,} in one"
    if most is None or fullest <= most:
        return _passed("Entries in a folder", said)
    full = [folder.as_posix() for folder, names in members.items() if len(names) > most]
    return PlayerCheck(
        what="Entries in a folder", verdict=Verdict.FAILED,
        found=f"{said}, {target.device} knows {most:,}: {_few(['the volume itself' if each == '.' else each for each in full])}",
        remedy="Deliver again with a pattern that makes more folders.",
    )  # fmt: skip


def _count(played: Sequence[PlayedTrack], target: Target) -> PlayerCheck:
    most, count = target.player.most_tracks, len(played)
    if most is None or count <= most:
        return _passed("Tracks", f"{count:,}")
    return PlayerCheck(
        what="Tracks", verdict=Verdict.FAILED, found=f"{count:,}; {target.device} knows {most:,}",
        remedy="Leave some out, or use several volumes.",
    )  # fmt: skip


def _names(volume: Volume, entries: Sequence[VolumeEntry], target: Target) -> PlayerCheck:
    longest = target.names.longest
    if longest is None:
        return _passed("Length of names", f"as {volume.system.label} allows")
    long = [entry.relative.name for entry in entries if volume.system.name_length(entry.relative.name) > longest]
    if not long:
        return _passed("Length of names", f"at most {longest} characters")
    return PlayerCheck(
        what="Length of names", verdict=Verdict.DOUBTFUL, found=f"{target.device} knows {longest} characters: {_few(long)}",
        remedy="Deliver those again: their names are cut to that length.",
    )  # fmt: skip


def _tracks(played: Sequence[PlayedTrack], target: Target) -> PlayerCheck:
    refused = [track for track in played if not track.plays]
    if not refused:
        return _passed("Every track plays", "yes") if played else _nothing("Every track plays", "no tracks")
    reason, count = Counter(track.fit.reason for track in refused).most_common(1)[0]
    many = f"{len(refused):,} of {len(played):,} do not"
    return PlayerCheck(
        what="Every track plays", verdict=Verdict.FAILED,
        found=f"{many}: {reason}" + (f" ({count:,}), and others" if count < len(refused) else ""),
        remedy="Repair: each is converted, and the result takes its place.",
    )  # fmt: skip


def _covers(played: Sequence[PlayedTrack], target: Target) -> PlayerCheck:
    covers = [track for track in played if track.facts.tags.covers]
    limit = target.tags.cover_bytes
    large = [
        track for track in covers if limit is not None and max(c.size_bytes for c in track.facts.tags.covers) > limit
    ]
    if target.tags.covers == "none" and covers:
        return PlayerCheck(
            what="Covers", verdict=Verdict.DOUBTFUL, found=f"{len(covers):,} tracks have some; {target.device} shows none",
            remedy="They only take room. Deliver again to leave them out.",
        )  # fmt: skip
    if large and limit is not None:
        return PlayerCheck(
            what="Covers", verdict=Verdict.DOUBTFUL,
            found=f"{len(large):,} are larger than {limit:,} bytes: {_few([t.entry.relative.name for t in large])}",
            remedy="Deliver those again: their covers are made smaller.",
        )  # fmt: skip
    return _passed("Covers", f"{len(covers):,} tracks show one") if covers else _nothing("Covers", "no covers")


def _lists(entries: Sequence[VolumeEntry], target: Target) -> PlayerCheck:
    lists = [entry.relative for entry in entries if is_list(entry.relative)]
    kind = target.playlists.kind
    known = () if kind == "none" else (f".{kind}",)
    unknown = [path.name for path in lists if path.suffix.lower() not in known]
    if not unknown:
        return _passed("Playlists", f"{len(lists):,} it knows") if lists else _nothing("Playlists", "no playlists")
    knows = "no playlists, only folders" if kind == "none" else f"playlists of the kind {kind.upper()}"
    return PlayerCheck(
        what="Playlists", verdict=Verdict.DOUBTFUL, found=f"{target.device} knows {knows}: {_few(unknown)}",
        remedy="Deliver the playlists from here: they are written in a kind that it knows.",
    )  # fmt: skip
