"""From files, lists and cue sheets to the design of a disc with the sounds that it names."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from rumbrel.core.disc.cue_sheet import CueFile, CueSheet, CueTrack, read_cue_file
from rumbrel.core.disc.data_marks import refuse_data
from rumbrel.core.disc.design import TRACK_TEXTS, DiscDesign, LeadSound, TrackDesign
from rumbrel.core.disc.media import smallest_medium
from rumbrel.core.disc.packs import decode_packs
from rumbrel.core.disc.red_book import (
    BYTES_PER_SECTOR,
    CHANNELS,
    DEPTH_BITS,
    FIRST_PAUSE_SECTORS,
    SAMPLE_RATE,
    SAMPLES_PER_SECTOR,
    SECTORS_PER_SECOND,
)
from rumbrel.core.disc.text import DiscText, TrackText, finer_text, read_text
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import Facts, inspect_file, read_confirmed_list
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.playlists import LIST_SUFFIXES
from rumbrel.core.sound.decoding import DISC_IMAGE, BareSound

from .design_disc import DesignPlan, plan_design
from .disc_sounds import Sound

__all__ = ["Gathered", "bare_facts", "gather_disc", "packs_beside", "plan_sheet", "sheet_design", "with_text_file"]

Inspect = Callable[[Path], Facts]
_BARE_KINDS = ("BINARY", "MOTOROLA")


@dataclass(frozen=True, slots=True, kw_only=True)
class Gathered:
    """A disc of what was named, and what is known of its sounds by their ids."""

    design: DiscDesign
    sounds: Mapping[int, Sound]


class _Gatherer:
    """Gives each sound an id, and reads the facts of each file once."""

    def __init__(self, inspect: Inspect) -> None:
        self._inspect = inspect
        self._wholes: dict[tuple[Path, str], int] = {}
        self.sounds: dict[int, Sound] = {}

    def add(self, sound: Sound) -> int:
        number = len(self.sounds) + 1
        self.sounds[number] = sound
        return number

    def file(self, path: Path) -> int:
        facts = self._inspect(path)
        return self.add(Sound(facts=facts, title=facts.tags.first("title") or path.stem))

    def whole(self, path: Path, kind: str) -> int:
        """A file that a sheet cuts."""
        if (path, kind) not in self._wholes:
            facts = bare_facts(path, kind) if kind in _BARE_KINDS else self._inspect(path)
            self._wholes[path, kind] = self.add(Sound(facts=facts, title=path.stem))
        return self._wholes[path, kind]

    def entries(self, path: Path) -> tuple[list[int], list[str]]:
        """(sounds of a list in its order, entries whose files are not there)."""
        found, missing = [], []
        for entry in read_confirmed_list(path, inspect=self._inspect).entries:
            if entry.missing:
                missing.append(entry.written or str(entry.path))
                continue
            facts = self._inspect(entry.path)
            title = facts.tags.first("title") or entry.title or entry.path.stem
            listed_as = entry.written if entry.found_again else ""
            found.append(self.add(Sound(facts=facts, title=title, performer=entry.performer, listed_as=listed_as)))
        return found, missing

    def sheet(self, path: Path) -> DiscDesign:
        """The tracks of a sheet as a disc of their own, whose sounds are parts of its files."""
        sheet = read_cue_file(path)
        wholes = {file: self.whole(_beside(path, file), file.kind) for file in sheet.files}
        facts = {file: self._facts(number) for file, number in wholes.items()}
        ids = []
        for track in sheet.tracks:
            whole = facts[track.file]
            if whole.container == DISC_IMAGE:
                refuse_data(Path(whole.path), track.start_sector)
            part = _part(track, whole)
            ids.append(self.add(Sound(facts=part, title=track.title or f"Track {track.number}")))
        return sheet_design(sheet, ids, wholes=wholes, facts=facts, packs=packs_beside(path, sheet))

    def _facts(self, number: int) -> Facts:
        """Of a whole file. Raises DiscError where not all of its sound can be used."""
        facts = self.sounds[number].facts
        assert facts is not None
        if not facts.usable or not facts.ok:
            said = facts.faults[0].text if facts.faults else "There is no sound in it."
            raise DiscError(f"{facts.path} cannot be put on a disc: {said}")
        return facts


def gather_disc(sources: Sequence[Path], *, inspect: Inspect = inspect_file) -> Gathered:
    """A disc of lists, sheets and files in order; of one sheet alone, the very disc that it describes. Raises DiscError
    naming every entry that is missing."""
    gatherer = _Gatherer(inspect)
    if len(sources) == 1 and sources[0].suffix.lower() == ".cue":
        return Gathered(design=gatherer.sheet(sources[0]), sounds=gatherer.sounds)
    tracks: list[TrackDesign] = []
    missing: list[str] = []
    for source in sources:
        if source.suffix.lower() == ".cue":
            tracks += _in_a_row(gatherer.sheet(source))
        elif source.suffix.lower() in LIST_SUFFIXES:
            found, lost = gatherer.entries(source)
            tracks += [TrackDesign(key=0, source_id=number) for number in found]
            missing += lost
        else:
            tracks.append(TrackDesign(key=0, source_id=gatherer.file(source)))
    if missing:
        more = f" and {len(missing) - 3} more" if len(missing) > 3 else ""
        raise DiscError(
            f"These entries are missing: {', '.join(missing[:3])}{more}. Connect their disk or take them out."
        )
    if not tracks:
        raise DiscError("The list is empty: there is nothing to put on the disc.")
    keyed = tuple(replace(track, key=key) for key, track in enumerate(tracks, 1))
    return Gathered(design=DiscDesign(tracks=keyed), sounds=gatherer.sounds)


def _in_a_row(design: DiscDesign) -> tuple[TrackDesign, ...]:
    """The tracks of a sheet among others: silence before its first is a gap there."""
    first, *rest = design.tracks
    return replace(first, gap_sectors=design.first_pause_sectors - FIRST_PAUSE_SECTORS), *rest


def plan_sheet(sheet: Path, *, title: str = "") -> DesignPlan:
    """The very disc that a cue sheet describes, on the smallest blank that holds it. Raises DiscError."""
    found = gather_disc([sheet])
    texts = {"title": title or sheet.stem, **found.design.texts}
    design = replace(found.design, texts=texts)
    total = plan_design(design, found.sounds).layout.total_sectors
    medium = smallest_medium(total)
    return plan_design(replace(design, medium_key=medium.key) if medium else design, found.sounds)


def with_text_file(design: DiscDesign, path: Path, planned: DesignPlan) -> DiscDesign:
    """The design with what a TOML file says of its texts, over what was planned. Raises DiscError naming the key."""
    base = planned.text
    said = read_text(path, base)
    pairs = zip(planned.keys, said.tracks, base.tracks, strict=True)
    changed = {key: _differing(one, other, TRACK_TEXTS) for key, one, other in pairs}
    tracks = tuple(
        replace(track, texts={**track.texts, **changed[track.key]}) if changed.get(track.key) else track
        for track in design.tracks
    )
    own = _differing(said.disc, base.disc, _DISC_NAMES) | _differing(said, base, ("genre", "disc_id", "product_code"))
    return replace(design, texts={**design.texts, **own}, genre_code=said.genre_code, tracks=tracks)


def _differing(one: TrackText | DiscText, other: TrackText | DiscText, names: Sequence[str]) -> dict[str, str]:
    return {name: getattr(one, name) for name in names if getattr(one, name) != getattr(other, name)}


def packs_beside(path: Path, sheet: CueSheet) -> DiscText | None:
    """What the CD-Text file says that a sheet names; None where it names none. Raises DiscError."""
    if not sheet.text_file:
        return None
    place = path.parent / sheet.text_file
    try:
        return decode_packs(place.read_bytes())
    except OSError as error:
        raise DiscError(f"{place.name} cannot be read, though {path.name} names it: {error.strerror}.") from error


def bare_facts(path: Path, kind: str = "BINARY") -> Facts:
    """Of a BIN image: bare samples as the disc holds them, or (MOTOROLA) with their bytes the other way round."""
    size = path.stat().st_size
    turned = BareSound(
        start_byte=0, end_byte=size, subtype="PCM_16", sample_rate=SAMPLE_RATE, channels=CHANNELS, big_endian=True
    )
    return Facts(
        path=str(path), size_bytes=size, container=DISC_IMAGE, codec="pcm", lossless=True, sample_rate=SAMPLE_RATE,
        bit_depth=DEPTH_BITS, channels=CHANNELS, samples=size // BYTES_PER_SECTOR * SAMPLES_PER_SECTOR,
        bare=turned if kind == "MOTOROLA" else None,
    )  # fmt: skip


def _beside(path: Path, file: CueFile) -> Path:
    place = path.parent / file.name
    if not place.is_file():
        raise DiscError(f"{file.name} does not lie beside {path.name}, which names it. Put both into one folder.")
    return place


def _samples(facts: Facts, sectors: int) -> int:
    return round(sectors * facts.sample_rate / SECTORS_PER_SECOND)


def _part(track: CueTrack, whole: Facts) -> Facts:
    start = _samples(whole, track.start_sector)
    end = whole.samples if track.end_sector is None else min(whole.samples, _samples(whole, track.end_sector))
    if end <= start:
        raise DiscError(f"Track {track.number} of the cue sheet begins after its file has ended.")
    if (start, end) == (0, whole.samples):
        return whole
    return cut_out(whole, Part(start_sample=start, end_sample=end, fields=whole.tags.fields))


def sheet_design(
    sheet: CueSheet,
    source_ids: Sequence[int],
    *,
    wholes: Mapping[CueFile, int],
    facts: Mapping[CueFile, Facts],
    packs: DiscText | None = None,
) -> DiscDesign:
    """The very disc that a cue sheet describes. source_ids are those of its tracks, wholes those of the files that it
    cuts, and facts theirs. packs is what its CD-Text file holds."""
    texts = _texts(sheet, packs)
    # Packs are all that the disc says: what they leave out, tags and the tracks' common performer do not add.
    is_whole = packs is not None
    made: list[TrackDesign] = []
    for number, (track, source_id) in enumerate(zip(sheet.tracks, source_ids, strict=True), 1):
        before = sheet.tracks[number - 2] if number > 1 else None
        gap_sector = sheet.gap_sector_of(track)
        own_gap = gap_sector is not None and track.gap_file is None
        made.append(
            TrackDesign(
                key=number, source_id=source_id, gap_sectors=track.silence_sectors if before else None,
                runs_on=before is not None and _goes_on(before, track),
                lead_sectors=track.start_sector - gap_sector if own_gap and gap_sector is not None else 0,
                lead=_lead(track, wholes, facts), postgap_sectors=track.postgap_sectors,
                index_sectors=tuple(mark - track.start_sector for mark in track.index_sectors),
                copy_permitted=track.copy_permitted, pre_emphasis=track.pre_emphasis,
                texts=_named(texts.tracks[number - 1], TRACK_TEXTS, every=is_whole),
            )
        )  # fmt: skip
    first = sheet.tracks[0]
    return DiscDesign(
        # Behind data, that pause is the one that every disc has.
        first_pause_sectors=FIRST_PAUSE_SECTORS + (0 if sheet.data_tracks else first.silence_sectors),
        tracks=tuple(made), genre_code=texts.genre_code,
        texts=_named(texts.disc, _DISC_NAMES, every=is_whole) | _named(texts, ("product_code", "disc_id", "genre")),
    )  # fmt: skip


def _goes_on(before: CueTrack, track: CueTrack) -> bool:
    """Whether nothing lies between the one's sound in a file and the other's, or the sound in the other's gap."""
    begins = track.start_sector if track.gap_sector is None else track.gap_sector
    touches = before.file == (track.gap_file or track.file) and before.end_sector == begins
    return touches and not (track.silence_sectors or before.postgap_sectors)


def _lead(track: CueTrack, wholes: Mapping[CueFile, int], facts: Mapping[CueFile, Facts]) -> LeadSound | None:
    """The sound of another file in a track's gap: from INDEX 00 to that file's end."""
    if track.gap_file is None or track.gap_sector is None:
        return None
    whole = facts[track.gap_file]
    start = _samples(whole, track.gap_sector)
    if start >= whole.samples:
        return None
    return LeadSound(source_id=wholes[track.gap_file], start_sample=start, samples=whole.samples - start)


def _texts(sheet: CueSheet, packs: DiscText | None) -> DiscText:
    """What the sheet says, and what its packs say beyond that: the code of packs lacks many characters."""
    own = DiscText(
        disc=TrackText(title=sheet.title, performer=sheet.performer, songwriter=sheet.songwriter),
        tracks=tuple(
            TrackText(
                title=track.title, performer=track.performer or sheet.performer, songwriter=track.songwriter, isrc=track.isrc
            ) for track in sheet.tracks
        ),
        product_code=sheet.product_code,
    )  # fmt: skip
    if packs is None or len(packs.tracks) != len(sheet.tracks):
        return own
    finer = finer_text(packs, own)
    return replace(finer, product_code=sheet.product_code or packs.product_code)


_DISC_NAMES = ("title", "performer", "songwriter", "composer", "arranger", "message")


def _named(text: TrackText | DiscText, names: Sequence[str], *, every: bool = False) -> dict[str, str]:
    """The texts that there are, by their names; every one of them, also those that are empty."""
    return {name: said for name in names if (said := getattr(text, name)) or every}
