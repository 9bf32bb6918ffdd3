"""From files, lists and cue sheets to the programmes of a disc."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from rumbrel.core.conversion.levelling import Measured, gain_for, measure_all
from rumbrel.core.disc.cue_sheet import CueSheet, CueTrack, read_cue_file
from rumbrel.core.disc.layout import Programme
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR, CHANNELS, SAMPLE_RATE, SAMPLES_PER_SECTOR
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, read_list
from rumbrel.core.sound.decoding import StreamChoice
from rumbrel.core.targets.model import LevelRule

__all__ = ["gathered", "level_programmes", "programme_of"]


def programme_of(facts: Facts, *, title: str = "", performer: str = "", isrc: str = "") -> Programme:
    """A whole file as a track. Raises DiscError when not all of its sound can be used."""
    if not facts.usable or not facts.ok:
        raise DiscError(f"{facts.path} cannot be put on a disc: {facts.problems[0].text}")
    first = facts.tags.first
    return Programme(
        path=facts.path,
        choice=facts.choice(),
        title=first("title") or title or Path(facts.path).stem,
        performer=first("artist") or performer,
        samples=facts.samples,
        sample_rate=facts.sample_rate,
        channels=facts.channels,
        lossless=facts.lossless,
        songwriter=first("songwriter"),
        composer=first("composer"),
        arranger=first("arranger"),
        album=first("album"),
        isrc=(first("isrc") or isrc).replace("-", ""),
    )


def gathered(sources: Sequence[Path], *, inspect: Callable[[Path], Facts] = inspect_file) -> list[Programme]:
    """Programmes of lists, sheets and files in order. Raises DiscError naming every entry that is missing."""
    programmes: list[Programme] = []
    missing: list[str] = []
    for source in sources:
        suffix = source.suffix.lower()
        if suffix == ".cue":
            programmes += _stretches(source, inspect)
        elif suffix in LIST_SUFFIXES:
            for entry in read_list(source).entries:
                if entry.missing:
                    missing.append(entry.written or str(entry.path))
                else:
                    programmes.append(_entry_programme(entry, inspect))
        else:
            programmes.append(programme_of(inspect(source)))
    if missing:
        more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
        raise DiscError(
            f"These entries are missing: {', '.join(missing[:3])}{more}. Connect their disk or take them out."
        )
    if not programmes:
        raise DiscError("The list is empty: there is nothing to put on the disc.")
    return programmes


def _entry_programme(entry: ListEntry, inspect: Callable[[Path], Facts]) -> Programme:
    return programme_of(inspect(entry.path), title=entry.title, performer=entry.performer)


def _stretches(path: Path, inspect: Callable[[Path], Facts]) -> list[Programme]:
    """The tracks of a cue sheet as stretches of its files."""
    sheet = read_cue_file(path)
    found: list[Programme] = []
    for place, track in enumerate(sheet.tracks):
        later = sheet.tracks[place + 1] if place + 1 < len(sheet.tracks) else None
        file = path.parent / track.file.name
        if not file.is_file():
            raise DiscError(f"{file} is not there, though the cue sheet names it.")
        base = _image_programme(file) if track.file.kind == "BINARY" else programme_of(inspect(file))
        found.append(_stretch(base, track, later, sheet))
    return found


def _image_programme(file: Path) -> Programme:
    """A BIN image: bare samples as the disc holds them."""
    return Programme(
        path=str(file),
        choice=StreamChoice(container="disc-image", depth_bits=16),
        title=file.stem,
        performer="",
        samples=file.stat().st_size // BYTES_PER_SECTOR * SAMPLES_PER_SECTOR,
        sample_rate=SAMPLE_RATE,
    )


def _stretch(base: Programme, track: CueTrack, later: CueTrack | None, sheet: CueSheet) -> Programme:
    def samples(sectors: int) -> int:
        return round(sectors * SAMPLES_PER_SECTOR * base.sample_rate / SAMPLE_RATE)

    start, end = samples(track.start_sector), base.samples
    if later is not None and later.file == track.file:
        end = samples(later.start_sector if later.gap_sector is None else later.gap_sector)
    if end <= start:
        raise DiscError(f"Track {track.number} of the cue sheet begins after its file has ended.")
    gap = None if track.gap_sector is None else track.start_sector - track.gap_sector
    return replace(
        base,
        title=track.title or f"Track {track.number}",
        performer=track.performer or sheet.performer,
        songwriter=track.songwriter,
        album=sheet.title,
        isrc=track.isrc,
        start_sample=start,
        samples=end - start,
        gap_sectors=gap + track.silence_sectors if gap is not None else track.silence_sectors or None,
        pre_emphasis=track.pre_emphasis,
        copy_permitted=track.copy_permitted,
        index_samples=tuple(samples(mark) - start for mark in track.index_sectors),
    )


def level_programmes(
    programmes: Sequence[Programme], rule: LevelRule, *, jobs: int, inspect: Callable[[Path], Facts] = inspect_file
) -> tuple[list[Programme], dict[str, float]]:
    """(programmes with the gain that the rule asks for and what measuring found of their state; seconds
    of each whole file without the silence at its ends, by path)."""
    files = {p.path: inspect(Path(p.path)) for p in programmes if p.choice.container != "disc-image"}
    measured = measure_all([(facts, CHANNELS) for facts in files.values()], jobs=jobs)
    parts = [measured[p.path] for p in programmes if p.path in measured]
    trimmed = {
        path: (found.samples - found.ends.leading_samples - found.ends.trailing_samples) / files[path].sample_rate
        for path, found in measured.items()
        if found.ends.leading_samples < found.samples
    }
    levelled = [
        replace(p, gain_db=gain_for(measured[p.path], parts, rule), state=_state(measured[p.path]))
        if p.path in measured
        else p
        for p in programmes
    ]
    return levelled, trimmed


def _state(found: Measured) -> str:
    if found.state.channels.startswith("silent"):
        return "silent"
    if found.state.channels == "identical":
        return "mono"
    return "clipped" if found.state.clipped_runs else ""
