"""Make a disc: tracks from files, lists and sheets; measure; lay out and judge; write and read back.

Commands and the web build a disc's tracks here, so that both write the same disc from the same files.
"""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Protocol

from rumbrel.core.bench.blanks import Blank
from rumbrel.core.bench.recorder import RecorderReport, StandInRecorder
from rumbrel.core.conversion.levelling import Measured, gain_for, measure_all
from rumbrel.core.disc.checklist import Finding, checklist
from rumbrel.core.disc.cue_sheet import CueFile, CueSheet, CueTrack, read_cue_file
from rumbrel.core.disc.data_disc import DataFile, album_folders
from rumbrel.core.disc.data_marks import refuse_data
from rumbrel.core.disc.design import LONGEST_GAP_SECONDS, checked_gap
from rumbrel.core.disc.fitting import Offer, fill_from_pool, offers
from rumbrel.core.disc.image import check_untouched, image_paths
from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.media import Medium, medium_for, smallest_medium
from rumbrel.core.disc.red_book import (
    BYTES_PER_SECTOR,
    CHANNELS,
    DEPTH_BITS,
    FIRST_PAUSE_SECTORS,
    SAMPLE_RATE,
    SAMPLES_PER_SECTOR,
    SECTORS_PER_SECOND,
    sectors_for_samples,
)
from rumbrel.core.disc.text import (
    DiscText,
    decode_packs,
    finer_text,
    packs_by_rule,
    read_text,
    text_of,
    titled,
    with_plain_codes,
)
from rumbrel.core.errors import DiscError
from rumbrel.core.forecast import gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts, inspect_file, read_confirmed_list
from rumbrel.core.inspection.stretches import Part, cut_out
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry
from rumbrel.core.progress import Report, no_report
from rumbrel.core.sound.analysis import ChannelState
from rumbrel.core.sound.decoding import DISC_IMAGE, BareSound, StreamChoice
from rumbrel.core.sound.dither import FLAT
from rumbrel.core.targets import LevelRule
from rumbrel.core.verdict import Verdict

__all__ = [
    "LONGEST_GAP_SECONDS",
    "DiscPlan",
    "DiscWish",
    "IMAGE_KINDS",
    "SheetSays",
    "data_files",
    "fill",
    "free_name",
    "gather_programmes",
    "image_programme",
    "levelled_programmes",
    "measure_programmes",
    "plan_disc",
    "plan_sheet",
    "programme_of",
    "sheet_says",
    "write_plan",
]

Inspect = Callable[[Path], Facts]
_DISC_FIELDS = frozenset(("title", "performer", "songwriter", "composer", "arranger", "message"))


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscWish:
    """What a disc is to be, beside its tracks. gap_sectors goes between tracks without one of their own. packs is the
    CD-Text that the disc had already, in place of its tracks' tags. texts are the disc's own by their names in the
    CD-Text, over what its tracks have in common. cd_text says what of all texts goes into that (text.TEXT_RULES)."""

    medium: Medium = field(default_factory=lambda: medium_for("80"))
    gap_sectors: int = 2 * SECTORS_PER_SECOND
    first_pause_sectors: int = FIRST_PAUSE_SECTORS
    hidden: Programme | None = None
    text_file: Path | None = None
    packs: DiscText | None = None
    title: str = ""
    texts: Mapping[str, str] = field(default_factory=dict)
    genre_code: int = 0
    dither: str = FLAT
    cd_text: str = "all"

    def lay_out(self, programmes: Sequence[Programme]) -> DiscLayout:
        return lay_out(
            programmes, gap_sectors=self.gap_sectors, medium=self.medium,
            first_pause_sectors=self.first_pause_sectors, hidden=self.hidden, dither=self.dither,
        )  # fmt: skip

    def text(self, layout: DiscLayout) -> DiscText:
        """What the disc says of itself."""
        of_tags = text_of(layout, title=self.title)
        if self.packs is not None and len(self.packs.tracks) == len(layout.tracks):
            of_tags = finer_text(self.packs, of_tags)
        own: dict[str, Any] = {name: text for name, text in self.texts.items() if name in _DISC_FIELDS}
        more: dict[str, Any] = {name: text for name, text in self.texts.items() if name not in _DISC_FIELDS}
        genre_code = self.genre_code or of_tags.genre_code
        said = replace(of_tags, disc=replace(of_tags.disc, **own), genre_code=genre_code, **more)
        return with_plain_codes(said if self.text_file is None else read_text(self.text_file, said))

    def check(self) -> "DiscWish":
        """The same. Raises DiscError for a gap or a first pause that no disc has."""
        longest = LONGEST_GAP_SECONDS * SECTORS_PER_SECOND
        checked_gap(self.gap_sectors)
        if not FIRST_PAUSE_SECTORS <= self.first_pause_sectors <= longest:
            seconds = self.first_pause_sectors / SECTORS_PER_SECOND
            raise DiscError(f"A first pause lasts 2 to {LONGEST_GAP_SECONDS} s, not {seconds:g} s.")
        return self


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscPlan:
    """A disc laid out and judged: what it is called, what would fail, and what would make it fit."""

    layout: DiscLayout
    text: DiscText
    findings: tuple[Finding, ...]
    offers: tuple[Offer, ...]
    cd_text: str = "all"

    @property
    def packs(self) -> bytes | None:
        """The packs of its CD-Text, b"" for none; None where every text goes into it. Raises DiscError."""
        return packs_by_rule(self.text, self.cd_text)

    @property
    def failed(self) -> Finding | None:
        """The first thing that forbids writing."""
        return next((finding for finding in self.findings if finding.verdict is Verdict.FAILED), None)

    @property
    def writable(self) -> bool:
        return self.failed is None and self.layout.fits


def programme_of(facts: Facts, *, title: str = "", performer: str = "", isrc: str = "") -> Programme:
    """A whole file as a track. Raises DiscError when not all of its sound can be used."""
    if not facts.usable or not facts.ok:
        raise DiscError(f"{facts.path} cannot be put on a disc: {facts.faults[0].text}")
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
        number=int(number) if (number := first("track").partition("/")[0].strip()).isdecimal() else 0,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetSays:
    """What a cue sheet says of its disc beside its tracks: texts by their names in the CD-Text, what its packs hold, and
    the silence before its first track, beyond the pause that every disc has."""

    texts: Mapping[str, str]
    packs: DiscText | None
    first_silence_sectors: int


def sheet_says(path: Path) -> SheetSays:
    """Raises DiscError for a sheet, or packs, that cannot be read."""
    sheet = read_cue_file(path)
    texts = {"title": sheet.title, "performer": sheet.performer, "product_code": sheet.product_code}
    packs = None
    if sheet.text_file:
        place = path.parent / sheet.text_file
        try:
            packs = decode_packs(place.read_bytes())
        except OSError as error:
            raise DiscError(f"{place.name} cannot be read, though {path.name} names it: {error.strerror}.") from error
    return SheetSays(
        texts={name: text for name, text in texts.items() if text}, packs=packs,
        # Behind data, that pause is the one that every disc has.
        first_silence_sectors=0 if sheet.data_tracks else sheet.tracks[0].silence_sectors,
    )  # fmt: skip


def gather_programmes(sources: Sequence[Path], *, inspect: Inspect = inspect_file) -> list[Programme]:
    """Programmes of lists, sheets and files in order. Raises DiscError naming every entry that is missing."""
    programmes: list[Programme] = []
    missing: list[str] = []
    for source in sources:
        suffix = source.suffix.lower()
        if suffix == ".cue":
            programmes += _stretches(source, read_cue_file(source), inspect)
        elif suffix in LIST_SUFFIXES:
            for entry in read_confirmed_list(source, inspect=inspect).entries:
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


def _entry_programme(entry: ListEntry, inspect: Inspect) -> Programme:
    programme = programme_of(inspect(entry.path), title=entry.title, performer=entry.performer)
    return replace(programme, listed_as=entry.written) if entry.found_again else programme


def _stretches(path: Path, sheet: CueSheet, inspect: Inspect) -> list[Programme]:
    """The tracks of a cue sheet as stretches of its files, with the sound that lies in their gaps."""
    files: dict[CueFile, Programme] = {}

    def opened(file: CueFile) -> Programme:
        if file not in files:
            place = path.parent / file.name
            if not place.is_file():
                raise DiscError(
                    f"{file.name} does not lie beside {path.name}, which names it. Put both into one folder."
                )
            files[file] = (
                image_programme(place, file.kind) if file.kind in IMAGE_KINDS else programme_of(inspect(place))
            )
        return files[file]

    found: list[Programme] = []
    for track in sheet.tracks:
        programme = _stretch(opened(track.file), track, sheet)
        lead = _lead(opened, track, sheet)
        before = found[-1] if found else None
        begins = lead or programme
        follows = (
            before is not None and before.path == begins.path and not (track.silence_sectors or before.postgap_sectors)
            and before.start_sample + before.samples == begins.start_sample
        )  # fmt: skip
        found.append(replace(programme, lead=lead, runs_on=follows))
    return found


IMAGE_KINDS = ("BINARY", "MOTOROLA")


def image_programme(file: Path, kind: str = "BINARY") -> Programme:
    """A BIN image: bare samples as the disc holds them, or with their bytes the other way round."""
    size = file.stat().st_size
    return Programme(
        path=str(file),
        choice=StreamChoice(
            container=DISC_IMAGE, depth_bits=16,
            bare=BareSound(
                start_byte=0, end_byte=size, subtype="PCM_16", sample_rate=SAMPLE_RATE, channels=CHANNELS, big_endian=True,
            ) if kind == "MOTOROLA" else None,
        ),
        title=file.stem,
        performer="",
        samples=size // BYTES_PER_SECTOR * SAMPLES_PER_SECTOR,
        sample_rate=SAMPLE_RATE,
    )  # fmt: skip


def _samples(base: Programme, sectors: int) -> int:
    return round(sectors * SAMPLES_PER_SECTOR * base.sample_rate / SAMPLE_RATE)


def _stretch(base: Programme, track: CueTrack, sheet: CueSheet) -> Programme:
    start = _samples(base, track.start_sector)
    end = base.samples if track.end_sector is None else min(base.samples, _samples(base, track.end_sector))
    if end <= start:
        raise DiscError(f"Track {track.number} of the cue sheet begins after its file has ended.")
    if base.choice.container == DISC_IMAGE:
        refuse_data(Path(base.path), track.start_sector)
    return replace(
        base,
        title=track.title or f"Track {track.number}",
        performer=track.performer or sheet.performer,
        songwriter=track.songwriter,
        album=sheet.title,
        isrc=track.isrc,
        start_sample=start,
        samples=end - start,
        # A sheet says where there are gaps; where it names none there is none.
        gap_sectors=track.silence_sectors,
        postgap_sectors=track.postgap_sectors,
        pre_emphasis=track.pre_emphasis,
        copy_permitted=track.copy_permitted,
        index_samples=tuple(_samples(base, mark) - start for mark in track.index_sectors),
    )


def _lead(opened: Callable[[CueFile], Programme], track: CueTrack, sheet: CueSheet) -> Programme | None:
    """What a sheet's files hold between INDEX 00 and 01."""
    gap_sector = sheet.gap_sector_of(track)
    if gap_sector is None:
        return None
    base = opened(track.gap_file or track.file)
    start = _samples(base, gap_sector)
    end = base.samples if track.gap_file else _samples(base, track.start_sector)
    if end <= start:
        return None
    return replace(base, title=f"Before track {track.number}", start_sample=start, samples=end - start)


Stretched = tuple[str, int, int]
"""What tells the sound of a programme: its file, and from where how many samples of it."""


def sound_of(programme: Programme) -> Stretched:
    return programme.path, programme.start_sample, programme.samples


def measure_programmes(
    programmes: Sequence[Programme],
    rule: LevelRule,
    *,
    jobs: int,
    inspect: Inspect = inspect_file,
    report: Report = no_report,
) -> tuple[list[Programme], dict[Stretched, float]]:
    """(programmes with the gain that the rule asks for and what measuring found of their state; seconds
    of each without the silence at its ends, by its sound). Of a file that a sheet cuts, each part is measured alone.
    What runs on must be marked before: it has one gain."""
    files: dict[str, Facts] = {}
    parts: dict[Stretched, Facts] = {}
    for each in programmes:
        whole = files.setdefault(each.path, _whole_facts(each, inspect))
        parts[sound_of(each)] = _part_facts(each, whole)
    found = measure_all([(facts, CHANNELS) for facts in parts.values()], jobs=jobs, report=report)
    measured = {sound: found[facts.key, CHANNELS] for sound, facts in parts.items() if (facts.key, CHANNELS) in found}
    trimmed = {
        sound: (m.samples - m.ends.leading_samples - m.ends.trailing_samples) / parts[sound].sample_rate
        for sound, m in measured.items()
        if m.ends.leading_samples < m.samples
    }
    return levelled_programmes(programmes, [measured.get(sound_of(each)) for each in programmes], rule), trimmed


def levelled_programmes(
    programmes: Sequence[Programme], measured: Sequence[Measured | None], rule: LevelRule
) -> list[Programme]:
    """With gains, and what measuring found of their state. Tracks that run on have one gain: a step in the level would be
    heard in the join."""
    runs: list[list[int]] = []
    for number, programme in enumerate(programmes):
        if programme.runs_on and runs:
            runs[-1].append(number)
        else:
            runs.append([number])
    every = [found for found in measured if found is not None]
    levelled = list(programmes)
    for run in runs:
        parts = [found for number in run if (found := measured[number]) is not None]
        if not parts:
            continue
        joint = rule.mode == "track" and len(run) > 1
        gain_db = gain_for(parts[0], parts if joint else every, replace(rule, mode="album") if joint else rule)
        for number in run:
            found = measured[number]
            if found is not None:
                levelled[number] = with_gain(programmes[number], found, gain_db)
    return levelled


def _whole_facts(programme: Programme, inspect: Inspect) -> Facts:
    """Of a file, or of a bare image, which inspection knows nothing of."""
    path = Path(programme.path)
    if programme.choice.container != DISC_IMAGE:
        return inspect(path)
    size = path.stat().st_size
    return Facts(
        path=programme.path, size_bytes=size, container=DISC_IMAGE, codec="pcm", lossless=True, sample_rate=SAMPLE_RATE,
        bit_depth=DEPTH_BITS, channels=CHANNELS, samples=size // BYTES_PER_SECTOR * SAMPLES_PER_SECTOR,
        bare=programme.choice.bare,
    )  # fmt: skip


def _part_facts(programme: Programme, whole: Facts) -> Facts:
    if programme.choice.stretch is not None:
        stretch = programme.choice.stretch
        return cut_out(whole, Part(start_sample=stretch.start_sample, end_sample=stretch.end_sample, fields={}))
    if (programme.start_sample, programme.samples) == (0, whole.samples):
        return whole
    end = programme.start_sample + programme.samples
    return cut_out(whole, Part(start_sample=programme.start_sample, end_sample=end, fields={}))


def with_gain(programme: Programme, found: Measured, gain_db: float) -> Programme:
    """A programme as it goes onto the disc with a gain, and what measuring found of it. The sound in its gap is turned
    with it."""
    lead = programme.lead and replace(programme.lead, gain_db=gain_db)
    level = found.level
    # Of another rate, what lies between its samples are samples on the disc.
    peak_db = level.sample_peak_dbfs if programme.sample_rate == SAMPLE_RATE else level.true_peak_dbtp
    over_db = max(0.0, peak_db + gain_db) if math.isfinite(peak_db) else 0.0
    return replace(programme, gain_db=gain_db, lead=lead, state=_measured_state(found), over_db=over_db)


def _measured_state(found: Measured) -> str:
    """What measuring found of a file, whatever its gain: "", "silent", "mono" or "clipped"."""
    if found.state.channels is ChannelState.SILENT:
        return "silent"
    if found.state.channels is ChannelState.IDENTICAL:
        return "mono"
    return "clipped" if found.state.clipped_runs else ""


def plan_disc(
    programmes: Sequence[Programme],
    wish: DiscWish,
    *,
    trimmed_seconds: Mapping[Stretched, float] | None = None,
    text: DiscText | None = None,
) -> DiscPlan:
    """Lay out and judge. text is what the disc says, where that is not what the wish makes of its tracks."""
    layout = wish.lay_out(programmes)
    text = wish.text(layout) if text is None else text
    layout = titled(layout, text)
    return DiscPlan(
        layout=layout,
        text=text,
        findings=checklist(layout, text, rule=wish.cd_text),
        cd_text=wish.cd_text,
        offers=offers(layout, trimmed_sectors=_trimmed_sectors(layout, trimmed_seconds)),
    )


def plan_sheet(sheet: Path, *, title: str = "") -> DiscPlan:
    """The very disc that a cue sheet describes, on the smallest blank that holds it. Raises DiscError."""
    says = sheet_says(sheet)
    programmes = gather_programmes([sheet])
    wish = DiscWish(
        title=title or sheet.stem, texts=says.texts, packs=says.packs,
        first_pause_sectors=FIRST_PAUSE_SECTORS + says.first_silence_sectors,
    )  # fmt: skip
    total = wish.lay_out(programmes).total_sectors
    return plan_disc(programmes, replace(wish, medium=smallest_medium(total) or wish.medium))


def _trimmed_sectors(layout: DiscLayout, seconds: Mapping[Stretched, float] | None) -> list[int] | None:
    """What each track would take without the silence at its ends; None where it was not measured."""
    if not seconds:
        return None
    return [
        min(t.sectors, math.ceil(seconds[sound_of(t.programme)] * SECTORS_PER_SECOND))
        if sound_of(t.programme) in seconds
        else t.sectors
        for t in layout.tracks
    ]


class Writable(Protocol):
    """A disc that was laid out and judged."""

    @property
    def layout(self) -> DiscLayout: ...
    @property
    def text(self) -> DiscText: ...
    @property
    def failed(self) -> Finding | None: ...


def write_plan(
    plan: Writable,
    folder: Path,
    name: str,
    *,
    speed: int,
    image_format: str = "bin",
    replaces: bool = False,
    untouched: Sequence[Path] = (),
    blank: Blank | None = None,
    report: Report = no_report,
    packs: bytes | None = None,
) -> RecorderReport:
    """Write on the stand-in recorder and read back. packs are those of a disc that is copied (b"" for none), in place of
    what its texts would be coded as. Raises DiscError when the plan may not be written, or when
    the image would take the name of something in untouched, and ImagePresent where one is there already."""
    if plan.failed is not None:
        raise DiscError(f"The disc cannot be written: {plan.failed.text}.")
    check_untouched(image_paths(folder, name, image_format), untouched)
    recorder = StandInRecorder(speed=speed)
    return recorder.write(
        plan.layout,
        folder,
        name,
        report,
        text=plan.text,
        image_format=image_format,
        replaces=replaces,
        blank=blank,
        packs=packs,
    )


def free_name(folder: Path, name: str, image_format: str) -> str:
    """The name, or with a number where an image of that name is there."""
    numbered, number = name, 1
    while any(path.exists() for path in image_paths(folder, numbered, image_format)):
        number += 1
        numbered = f"{name} ({number})"
    return numbered


def fill(plan: DiscPlan, pool: Sequence[Programme], wish: DiscWish) -> tuple[list[Programme], int]:
    """(tracks of the pool that would fill the rest of the disc best, sectors still free then)."""
    on_disc = {track.programme.path for track in plan.layout.tracks}
    left = [programme for programme in pool if programme.path not in on_disc]
    sectors = [sectors_for_samples(programme.disc_samples) for programme in left]
    best = fill_from_pool(plan.layout, sectors, gap_sectors=wish.gap_sectors)
    return [left[number] for number in best.positions], best.free_sectors


def data_files(sources: Sequence[Path], *, numbered: bool = False) -> list[DataFile]:
    """Files of lists and folders for a data disc, a folder on it for each album or list. numbered puts them all into one
    with their numbers before their names: players of files walk them by name."""
    files: list[DataFile] = []
    albums: list[tuple[Path, str, str]] = []
    for source in sources:
        if source.suffix.lower() in LIST_SUFFIXES:
            files += [
                DataFile(path=e.path, folder=source.stem, name=e.path.name) for e in read_confirmed_list(source).entries
            ]
            continue
        for each in gather_sources([source]):
            if each.path.suffix.lower() in SOUND_SUFFIXES:
                tags = inspect_file(each.path).tags
                performer = tags.first("album_artist") or tags.first("artist")
                albums.append((each.path, tags.first("album") or each.path.parent.name, performer))
                files.append(DataFile(path=each.path, folder="", name=each.path.name))
    if not files:
        raise DiscError("There are no sound files to put on the disc.")
    folders = dict(
        zip((path for path, _, _ in albums), album_folders([(album, who) for _, album, who in albums]), strict=True)
    )
    if numbered:
        return [replace(file, folder="", name=f"{number:03d} {file.name}") for number, file in enumerate(files, 1)]
    return [replace(file, folder=file.folder or folders.get(file.path, "")) for file in files]
