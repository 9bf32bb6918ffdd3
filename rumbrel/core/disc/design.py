"""A disc as it is to be, before it is laid out: its tracks in their order, what is asked and said of each, and every
change that can be made to it. A change gives another design and leaves the first as it was."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum

from rumbrel.core.errors import DiscError
from rumbrel.core.sound.dither import FLAT

from .codes import parse_isrc, parse_product_code
from .media import MEDIA
from .red_book import FIRST_PAUSE_SECTORS, SECTORS_PER_SECOND
from .text_rules import TEXT_RULES, TextChoice

__all__ = [
    "DISC_CEILING_DBTP",
    "DISC_LOUDNESS_LUFS",
    "DISC_TEXTS",
    "LONGEST_GAP_SECONDS",
    "TRACK_TEXTS",
    "DiscDesign",
    "DiscKind",
    "LeadSound",
    "TrackDesign",
    "added",
    "checked_first_pause",
    "checked_gap",
    "divided",
    "gaps_of_at_most",
    "in_gap_of_next",
    "left_out",
    "moved",
    "rejoined",
    "running_on",
    "with_gap",
    "with_spellings",
    "with_marks",
    "with_text_rule",
    "with_texts",
    "without",
]

LONGEST_GAP_SECONDS = 60
_LONGEST_GAP_SECTORS = LONGEST_GAP_SECONDS * SECTORS_PER_SECOND
TRACK_TEXTS = ("title", "performer", "songwriter", "composer", "arranger", "message", "isrc")
DISC_TEXTS = ("title", "performer", "songwriter", "composer", "arranger", "message", "product_code", "disc_id", "genre")
_LONGEST_TEXT = 500
DISC_LOUDNESS_LUFS, DISC_CEILING_DBTP = -18.0, -1.0
"""What a level rule means unless it is said: those of the targets."""
MOST_MARKS = 98
"""Index 2 to 99 (IEC 60908, from memory)."""


class DiscKind(StrEnum):
    """Where a disc is to play: on any player of audio CDs, on players that read compressed files, in computers."""

    AUDIO = "audio"
    FILES = "files"
    DATA = "data"


@dataclass(frozen=True, slots=True, kw_only=True)
class LeadSound:
    """Sound of another file that lies in a track's gap: so many samples of the sound of that id, in its file's own rate."""

    source_id: int
    start_sample: int
    samples: int


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackDesign:
    """A track of a disc. key stays with it wherever it is moved; source_id says whose sound it is.

    gap_sectors is the gap before it where it has one of its own; runs_on, that it follows the one before without a
    break. lead_sectors is how much of its file before its own part lies in its gap as sound, as cue sheets have it between
    INDEX 00 and 01; before the first track that is hidden sound. lead is the same of another file. postgap_sectors of
    silence behind its sound belong to it. left_out keeps it in the list and off the disc. index_sectors are the marks
    inside it, from its beginning. texts are those that were typed over the tags, by the names of TRACK_TEXTS; "" leaves
    one out.
    """

    key: int
    source_id: int
    gap_sectors: int | None = None
    runs_on: bool = False
    lead_sectors: int = 0
    lead: LeadSound | None = None
    postgap_sectors: int = 0
    left_out: bool = False
    index_sectors: tuple[int, ...] = ()
    copy_permitted: bool = False
    pre_emphasis: bool = False
    texts: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscDesign:
    """first_pause_sectors counts the 150 before address 0. hidden_id is the sound that lies before track 1. level is
    the mode of a level rule: none, track or album, for which loudness and ceiling are meant. trims leaves out the silence at the ends of tracks. dither is
    one of DITHERS. target_slug is
    what files are made for on a disc of compressed files, numbered puts the order into the names of files, name_pattern
    makes them of titles and numbers instead. cd_text says
    what of the texts goes into the CD-Text (text_rules.TEXT_RULES), spellings how texts are spelled there whose characters
    its code lacks, and japanese that a second block has them in MS-JIS."""

    kind: DiscKind = DiscKind.AUDIO
    medium_key: str = "80"
    gap_sectors: int = 2 * SECTORS_PER_SECOND
    first_pause_sectors: int = FIRST_PAUSE_SECTORS
    hidden_id: int | None = None
    level: str = "none"
    loudness_lufs: float = DISC_LOUDNESS_LUFS
    ceiling_dbtp: float = DISC_CEILING_DBTP
    trims: bool = False
    dither: str = FLAT
    speed: int = 8
    target_slug: str = ""
    numbered: bool = True
    name_pattern: str = ""
    genre_code: int = 0
    cd_text: str = "all"
    spellings: Mapping[str, str] = field(default_factory=dict)
    japanese: bool = False
    texts: Mapping[str, str] = field(default_factory=dict)
    tracks: tuple[TrackDesign, ...] = ()

    @classmethod
    def of(cls, source_ids: Sequence[int], **values: object) -> "DiscDesign":
        """The sounds in their order."""
        return added(cls(**values), source_ids)  # type: ignore[arg-type]

    @property
    def sound_ids(self) -> frozenset[int]:
        """The sounds of its tracks, of their gaps, and before track 1."""
        tracks = {track.source_id for track in self.tracks}
        leads = {track.lead.source_id for track in self.tracks if track.lead}
        return frozenset(tracks | leads | ({self.hidden_id} if self.hidden_id else set()))

    @property
    def text_choice(self) -> TextChoice:
        """What of its texts goes into the CD-Text, and how it is spelled there."""
        return TextChoice(rule=self.cd_text, spellings=self.spellings, japanese=self.japanese)

    @property
    def kept(self) -> tuple[TrackDesign, ...]:
        """The tracks that are to lie on the disc."""
        return tuple(track for track in self.tracks if not track.left_out)

    def track(self, key: int) -> TrackDesign:
        """Raises DiscError when it is no longer on the list."""
        found = next((track for track in self.tracks if track.key == key), None)
        if found is None:
            raise DiscError("That track is no longer on this disc.")
        return found


def _changed(design: DiscDesign, keys: Collection[int], **values: object) -> DiscDesign:
    for key in keys:
        design.track(key)
    tracks = tuple(replace(t, **values) if t.key in keys else t for t in design.tracks)  # type: ignore[arg-type]
    return replace(design, tracks=tracks)


def added(design: DiscDesign, source_ids: Sequence[int]) -> DiscDesign:
    """More sounds behind the last."""
    first = max((track.key for track in design.tracks), default=0) + 1
    more = tuple(TrackDesign(key=key, source_id=pk) for key, pk in enumerate(source_ids, first))
    return replace(design, tracks=design.tracks + more)


def without(design: DiscDesign, keys: Collection[int]) -> DiscDesign:
    """Off the list altogether."""
    for key in keys:
        design.track(key)
    return rejoined(design, tuple(track for track in design.tracks if track.key not in keys))


def moved(design: DiscDesign, keys: Sequence[int], before: int | None) -> DiscDesign:
    """Some tracks, in the order that they have, before another one, or to the end. A join is between two neighbours:
    whoever gets another one before it does not run on any more."""
    going = [track for track in design.tracks if track.key in keys]
    if len(going) < len(set(keys)):
        raise DiscError("One of those tracks is no longer on this disc.")
    if before in keys:
        return design
    rest = [track for track in design.tracks if track.key not in keys]
    at = len(rest)
    if before is not None:
        at = next((n for n, track in enumerate(rest) if track.key == before), -1)
        if at < 0:
            raise DiscError("The track to put it before is no longer on this disc.")
    return rejoined(design, (*rest[:at], *going, *rest[at:]))


def rejoined(design: DiscDesign, tracks: Sequence[TrackDesign]) -> DiscDesign:
    """The tracks in a new order, with the joins, and the sound in gaps, that are still between the same two."""
    before = {later.key: earlier.key for earlier, later in zip(design.tracks, design.tracks[1:], strict=False)}
    new = {later.key: earlier.key for earlier, later in zip(tracks, tracks[1:], strict=False)}
    kept = tuple(track if new.get(track.key) == before.get(track.key) else _alone(track) for track in tracks)
    return replace(design, tracks=kept)


def _alone(track: TrackDesign) -> TrackDesign:
    """Without what it had of the one before it."""
    return replace(track, runs_on=False, lead_sectors=0, lead=None)


def in_gap_of_next(design: DiscDesign, key: int, start_sample: int, samples: int) -> DiscDesign:
    """A track that is too short to be one: so many samples of it lie in the gap before the next track. Raises DiscError
    where no track comes after it."""
    track = design.track(key)
    kept = design.kept
    after = next((b for a, b in zip(kept, kept[1:], strict=False) if a.key == key), None)
    if after is None:
        raise DiscError("No track comes after it whose gap could hold it. Leave it out, or move it up.")
    sound = LeadSound(source_id=track.source_id, start_sample=start_sample, samples=samples)
    return _changed(without(design, [key]), [after.key], lead=sound, lead_sectors=0, runs_on=False)


def checked_gap(sectors: int) -> int:
    """The same. Raises DiscError for a gap that no disc has."""
    if not 0 <= sectors <= _LONGEST_GAP_SECTORS:
        raise DiscError(f"A gap lasts 0 to {LONGEST_GAP_SECONDS} s, not {sectors / SECTORS_PER_SECOND:g} s.")
    return sectors


def with_gap(design: DiscDesign, sectors: int, key: int | None = None) -> DiscDesign:
    """One gap for all, or before one track alone; a gap is no running on. Raises DiscError for an absurd one."""
    checked_gap(sectors)
    if key is None:
        cleared = tuple(replace(track, gap_sectors=None) for track in design.tracks)
        return replace(design, gap_sectors=sectors, tracks=cleared)
    if design.kept and design.kept[0].key == key:
        return replace(design, first_pause_sectors=checked_first_pause(sectors))
    own = None if sectors == design.gap_sectors else sectors
    return _changed(design, [key], gap_sectors=own, runs_on=False)


def gaps_of_at_most(design: DiscDesign, sectors: int) -> DiscDesign:
    """No gap longer than that; shorter ones stay."""
    checked_gap(sectors)
    tracks = tuple(
        track if track.gap_sectors is None else replace(track, gap_sectors=min(track.gap_sectors, sectors))
        for track in design.tracks
    )
    return replace(design, gap_sectors=min(design.gap_sectors, sectors), tracks=tracks)


def running_on(design: DiscDesign, keys: Collection[int], on: bool) -> DiscDesign:
    """Some tracks follow the one before without a break, or with a gap again. The first has nothing before it."""
    first = design.kept[0].key if design.kept else None
    if on and first in keys:
        raise DiscError("The first track has none before it that it could run on from.")
    return _changed(design, keys, runs_on=on)


def left_out(design: DiscDesign, keys: Collection[int], out: bool) -> DiscDesign:
    """Off the disc, or on it again; the list keeps them. What followed one without a break begins anew."""
    changed = _changed(design, keys, left_out=out)
    after = [b.key for a, b in zip(design.tracks, design.tracks[1:], strict=False) if out and a.key in keys]
    return _changed(changed, after, runs_on=False, lead_sectors=0, lead=None) if after else changed


def with_texts(design: DiscDesign, texts: Mapping[str, str], key: int | None = None) -> DiscDesign:
    """Texts of the disc, or of a track, over what is there. Raises DiscError for a wrong code, or a field or a length
    that no disc has."""
    known = DISC_TEXTS if key is None else TRACK_TEXTS
    for name, text in texts.items():
        if name not in known:
            raise DiscError(f"There is no text '{name}' on a disc.")
        if len(text) > _LONGEST_TEXT:
            raise DiscError(f"That text has {len(text):,} characters; {_LONGEST_TEXT} are the most that are taken.")
    texts = {name: _code(name, " ".join(text.split())) for name, text in texts.items()}
    if key is None:
        return replace(design, texts={**design.texts, **texts})
    return _changed(design, [key], texts={**design.track(key).texts, **texts})


def with_text_rule(design: DiscDesign, rule: str) -> DiscDesign:
    """What of the texts goes into the CD-Text. Raises DiscError for a rule there is not."""
    if rule not in TEXT_RULES:
        raise DiscError("There is no such choice of texts. Choose from what is offered.")
    return replace(design, cd_text=rule)


def with_spellings(design: DiscDesign, spellings: Mapping[str, str]) -> DiscDesign:
    """How texts are spelled in the CD-Text; "" takes a spelling back. Raises DiscError for one that is too long."""
    flat = {said: " ".join(spelled.split()) for said, spelled in spellings.items()}
    longest = max((len(spelled) for spelled in flat.values()), default=0)
    if longest > _LONGEST_TEXT:
        raise DiscError(f"That spelling has {longest:,} characters; {_LONGEST_TEXT} are the most that are taken.")
    kept = {**design.spellings, **flat}
    return replace(design, spellings={said: spelled for said, spelled in kept.items() if spelled and spelled != said})


def _code(name: str, text: str) -> str:
    if name == "isrc" and text:
        return parse_isrc(text)
    return parse_product_code(text) if name == "product_code" and text else text


def with_marks(design: DiscDesign, key: int, sectors: Sequence[int]) -> DiscDesign:
    """Marks inside a track, from its beginning: index 2 and on."""
    marks = sorted(set(sectors))
    if len(marks) > MOST_MARKS or (marks and marks[0] <= 0):
        raise DiscError(f"A track has at most {MOST_MARKS} marks inside it, each behind its beginning.")
    return _changed(design, [key], index_sectors=tuple(marks))


def divided(design: DiscDesign, parts: Sequence[Sequence[int]]) -> list[DiscDesign]:
    """A disc for each part, given as keys in their order, with its number behind the title; what is left out goes with
    the first. Hidden sound and a longer first pause stay with the first too: they are what that disc begins with."""
    out = [track for track in design.tracks if track.left_out]
    title = design.texts.get("title", "")
    found = []
    for number, keys in enumerate(parts, 1):
        tracks = [design.track(key) for key in keys]
        one = rejoined(design, [*tracks, *(out if number == 1 else [])])
        if number > 1:
            one = replace(one, first_pause_sectors=FIRST_PAUSE_SECTORS, hidden_id=None)
        if title and len(parts) > 1:
            one = replace(one, texts={**design.texts, "title": f"{title} {number}"})
        found.append(one)
    return found


def checked_first_pause(sectors: int) -> int:
    """The same. Raises DiscError for a first pause that no disc has."""
    if not FIRST_PAUSE_SECTORS <= sectors <= _LONGEST_GAP_SECTORS:
        raise DiscError(
            f"A first pause lasts 2 to {LONGEST_GAP_SECONDS} s, not {sectors / SECTORS_PER_SECOND:g} s: the standard wants "
            "2 s."
        )
    return sectors


def checked_medium(key: str) -> str:
    """The same. Raises DiscError naming the blanks there are."""
    if key not in {medium.key for medium in MEDIA}:
        raise DiscError(f"There is no medium '{key}'. There are: {', '.join(medium.key for medium in MEDIA)}.")
    return key
