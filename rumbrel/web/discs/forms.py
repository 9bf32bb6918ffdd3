"""The disc's sentence, and a form for each change of a disc: what it asks for, checked, as a change of the design."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from django import forms

from rumbrel.core.bench.blanks import SHELF
from rumbrel.core.bench.recorder import RECORDERS, recorder_for
from rumbrel.core.disc import design as designs
from rumbrel.core.disc.design import DISC_TEXTS, DiscDesign, DiscKind
from rumbrel.core.disc.media import MEDIA, medium_for
from rumbrel.core.disc.red_book import FIRST_PAUSE_SECTORS, SECTORS_PER_SECOND, format_msf, nearest_sectors, parse_msf
from rumbrel.core.disc.text import GENRES
from rumbrel.core.disc.text_rules import TEXT_RULES
from rumbrel.core.errors import DiscError
from rumbrel.core.inlay import VARIANTS
from rumbrel.core.sound.dither import DITHERS
from rumbrel.core.targets import all_targets
from rumbrel.core.targets.pattern import check_pattern

__all__ = [
    "ACTS",
    "ActForm",
    "FillForm",
    "InlayForm",
    "SentenceForm",
    "TrackForm",
    "TrayForm",
    "WriteForm",
    "disc_texts",
    "gap_text",
]

_GAPS = (0, 1, 2, 3, 4, 5)
_MOST_MARKS_TEXT = 1_000
_MOST_GAP_SAMPLES = designs.LONGEST_GAP_SECONDS * 768_000
"""The longest gap at the highest rate that files have."""


def gap_text(sectors: int) -> str:
    """Seconds where they are whole hundredths, else m:s:f."""
    seconds = sectors / SECTORS_PER_SECOND
    return f"{seconds:.2f}".rstrip("0").rstrip(".") if round(seconds, 2) == seconds else format_msf(sectors)


def parse_gap(text: str) -> int:
    """Sectors of seconds or m:s:f. Raises DiscError."""
    plain = text.strip().lower().removesuffix("s").strip().replace(",", ".")
    try:
        sectors = parse_msf(plain) if ":" in plain else nearest_sectors(float(plain))
    except (ValueError, OverflowError) as error:
        raise DiscError(f"'{text[:40]}' is not a gap: write seconds, as in 2.5, or m:s:f, as in 0:02:37.") from error
    return designs.checked_gap(sectors)


def _changed_gap(design: DiscDesign, text: str, key: int) -> DiscDesign:
    if text.strip().lower() in ("runs on", "run on"):
        return designs.running_on(design, [key], True)
    return designs.with_gap(design, parse_gap(text), key)


class Keys(forms.Field):
    """Numbers between blanks; their order stays."""

    def to_python(self, value: str | None) -> tuple[int, ...]:
        parts = (value or "").split()
        if len(parts) > 2_000 or not all(part.isascii() and part.isdecimal() and len(part) < 10 for part in parts):
            raise forms.ValidationError("These are no tracks of a disc.")
        return tuple(dict.fromkeys(int(part) for part in parts))


class ActForm(forms.Form):
    """A change of a disc. revision is what the user saw."""

    revision = forms.IntegerField(required=False, min_value=0)

    @property
    def said(self) -> str:
        """What the change is, for undoing it."""
        return "a change"

    @property
    def name(self) -> str:
        """The disc's name after it, "" where it stays."""
        return ""

    def change(self, design: DiscDesign) -> DiscDesign:
        """Raises DiscError for what cannot be."""
        raise NotImplementedError

    @property
    def wrong(self) -> str:
        """What is wrong with what was sent, in a sentence."""
        return " ".join(str(each) for errors in self.errors.values() for each in errors)


class _TracksForm(ActForm):
    keys = Keys()

    def _named(self) -> str:
        count = len(self.cleaned_data["keys"])
        return "1 track" if count == 1 else f"{count} tracks"


class MoveForm(_TracksForm):
    """Tracks before another one, or to the end."""

    before = forms.IntegerField(required=False, min_value=0)

    @property
    def said(self) -> str:
        return f"{self._named()} moved"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.moved(design, self.cleaned_data["keys"], self.cleaned_data["before"])


class StepForm(_TracksForm):
    """Tracks one up or one down, together."""

    way = forms.ChoiceField(choices=[("up", "up"), ("down", "down")])

    @property
    def said(self) -> str:
        return f"{self._named()} moved {self.cleaned_data['way']}"

    def change(self, design: DiscDesign) -> DiscDesign:
        keys, order = self.cleaned_data["keys"], [track.key for track in design.tracks]
        at = [number for number, key in enumerate(order) if key in keys]
        if not at:
            raise DiscError("That track is no longer on this disc.")
        if self.cleaned_data["way"] == "up":
            return design if at[0] == 0 else designs.moved(design, keys, order[at[0] - 1])
        behind = [key for key in order[at[-1] + 1 :] if key not in keys]
        return designs.moved(design, keys, behind[1] if len(behind) > 1 else None) if behind else design


class GapForm(ActForm):
    """The gap before one track, or between all."""

    key = forms.IntegerField(required=False)
    gap = forms.CharField(max_length=40)

    @property
    def said(self) -> str:
        what = "before a track" if self.cleaned_data["key"] else "between all tracks"
        return f"a gap of {self.cleaned_data['gap']} {what}"

    def change(self, design: DiscDesign) -> DiscDesign:
        text, key = self.cleaned_data["gap"], self.cleaned_data["key"]
        return designs.with_gap(design, parse_gap(text)) if key is None else _changed_gap(design, text, key)


class MostGapForm(ActForm):
    """No gap longer than so much."""

    gap = forms.CharField(max_length=40)

    @property
    def said(self) -> str:
        return f"gaps of at most {self.cleaned_data['gap']} s"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.gaps_of_at_most(design, parse_gap(self.cleaned_data["gap"]))


class JoinForm(_TracksForm):
    on = forms.BooleanField(required=False)

    @property
    def said(self) -> str:
        return f"{self._named()} {'run on' if self.cleaned_data['on'] else 'with a gap again'}"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.running_on(design, self.cleaned_data["keys"], self.cleaned_data["on"])


class LeaveForm(_TracksForm):
    out = forms.BooleanField(required=False)

    @property
    def said(self) -> str:
        return f"{self._named()} {'excluded' if self.cleaned_data['out'] else 'included again'}"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.left_out(design, self.cleaned_data["keys"], self.cleaned_data["out"])


class IntoGapForm(ActForm):
    """A track as sound in the gap before the next one: a stretch of its file, in samples of its own rate."""

    key = forms.IntegerField(min_value=0)
    start = forms.IntegerField(min_value=0)
    samples = forms.IntegerField(min_value=1, max_value=_MOST_GAP_SAMPLES)

    @property
    def said(self) -> str:
        return "a short track in the gap before the next"

    def change(self, design: DiscDesign) -> DiscDesign:
        values = self.cleaned_data
        return designs.in_gap_of_next(design, values["key"], values["start"], values["samples"])


class RemoveForm(_TracksForm):
    @property
    def said(self) -> str:
        return f"{self._named()} taken off the disc"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.without(design, self.cleaned_data["keys"])


class TextForm(ActForm):
    """One text, typed where it stands."""

    key = forms.IntegerField(required=False)
    field = forms.CharField(max_length=20)
    value = forms.CharField(required=False, max_length=2_000)

    @property
    def said(self) -> str:
        return f"{self.cleaned_data['field'].replace('_', ' ')} {self.cleaned_data['value']}"[:200]

    @property
    def name(self) -> str:
        of_disc = self.cleaned_data["key"] is None and self.cleaned_data["field"] == "title"
        return self.cleaned_data["value"].strip()[:200] if of_disc else ""

    def change(self, design: DiscDesign) -> DiscDesign:
        texts = {self.cleaned_data["field"]: self.cleaned_data["value"]}
        return designs.with_texts(design, texts, self.cleaned_data["key"])


_TEXT_LABELS = {
    "title": "Title", "performer": "Performer", "songwriter": "Songwriter", "composer": "Composer",
    "arranger": "Arranger", "message": "Message", "isrc": "ISRC", "product_code": "UPC/EAN", "disc_id": "Disc id",
    "genre": "Genre",
}  # fmt: skip


class TrackForm(ActForm):
    """All that is said and asked of one track."""

    key = forms.IntegerField(widget=forms.HiddenInput)
    gap = forms.CharField(required=False, max_length=40, label="Gap before")
    marks = forms.CharField(
        required=False, max_length=_MOST_MARKS_TEXT, label="Index marks",
        help_text="Times in the track, m:s:f, between blanks; index 2 and on.",
    )  # fmt: skip
    copy_permitted = forms.BooleanField(required=False, label="Digital copies are permitted")
    pre_emphasis = forms.BooleanField(required=False, label="The sound has pre-emphasis")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in designs.TRACK_TEXTS:
            self.fields[name] = forms.CharField(required=False, max_length=2_000, label=_TEXT_LABELS[name])
        self.order_fields([*designs.TRACK_TEXTS, "gap", "marks", "copy_permitted", "pre_emphasis"])

    @classmethod
    def of(cls, track: designs.TrackDesign, shown: Mapping[str, str], gap: str) -> "TrackForm":
        """The form as the track is; shown are the texts that it has, its own or its tags'."""
        marks = " ".join(format_msf(sector) for sector in track.index_sectors)
        initial = {
            "key": track.key, "gap": gap, "marks": marks, "copy_permitted": track.copy_permitted,
            "pre_emphasis": track.pre_emphasis, **shown,
        }  # fmt: skip
        return cls(initial=initial, auto_id="track-%s")

    @property
    def said(self) -> str:
        return f"what is said of {self.cleaned_data['title'] or 'a track'}"[:200]

    def change(self, design: DiscDesign) -> DiscDesign:
        chosen, key = self.cleaned_data, self.cleaned_data["key"]
        track = design.track(key)
        changed = {name: chosen[name] for name in designs.TRACK_TEXTS if name in self.changed_texts}
        new = designs.with_texts(design, changed, key) if changed else design
        new = designs.with_marks(new, key, _marks(chosen["marks"]))
        gap = chosen["gap"].strip()
        if gap and gap != self.data.get("gap_was", ""):
            new = _changed_gap(new, gap, key)
        flags = {name: chosen[name] for name in ("copy_permitted", "pre_emphasis")}
        if any(getattr(track, name) != value for name, value in flags.items()):
            tracks = tuple(replace(each, **flags) if each.key == key else each for each in new.tracks)
            new = replace(new, tracks=tracks)
        return new

    @property
    def changed_texts(self) -> set[str]:
        """Those that are not as they were shown: a tag that was not touched stays the tag's."""
        return {
            name for name in designs.TRACK_TEXTS
            if self.cleaned_data[name] != " ".join(self.data.get(f"{name}_was", "").split())
        }  # fmt: skip


def _marks(text: str) -> list[int]:
    try:
        return [parse_msf(part) for part in text.split()]
    except ValueError as error:
        raise DiscError(f"The marks cannot be read: {error}.") from error


GENRE_CHOICES = [("", "none stated"), *((str(code), name) for code, name in enumerate(GENRES) if code)]


class DiscTextForm(ActForm):
    """What is said of the disc as a whole, and what lies before its first track."""

    genre_code = forms.TypedChoiceField(
        required=False, coerce=int, empty_value=0, label="Genre by the standard", choices=GENRE_CHOICES
    )
    first_pause = forms.CharField(required=False, max_length=40, label="First pause")
    hidden = forms.IntegerField(required=False, label="Hidden before track 1")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in DISC_TEXTS:
            self.fields[name] = forms.CharField(required=False, max_length=2_000, label=_TEXT_LABELS[name])
        self.order_fields([*DISC_TEXTS, "genre_code", "first_pause", "hidden"])

    @property
    def said(self) -> str:
        return "what is said of the disc"

    @property
    def name(self) -> str:
        return str(self.cleaned_data["title"]).strip()[:200]

    def change(self, design: DiscDesign) -> DiscDesign:
        chosen = self.cleaned_data
        texts = {
            name: chosen[name] for name in DISC_TEXTS
            if chosen[name] != " ".join(self.data.get(f"{name}_was", "").split())
        }  # fmt: skip
        new = designs.with_texts(design, texts) if texts else design
        pause = parse_gap(chosen["first_pause"]) if chosen["first_pause"].strip() else FIRST_PAUSE_SECTORS
        if pause < FIRST_PAUSE_SECTORS:
            raise DiscError("The first pause of a disc lasts 2 to 60 s: the standard wants 2 s.")
        if chosen["hidden"] and chosen["hidden"] not in {track.source_id for track in design.tracks}:
            raise DiscError("Only a sound of this list can lie before track 1. Put it on the list first.")
        return replace(
            new, genre_code=chosen["genre_code"] or 0, first_pause_sectors=pause, hidden_id=chosen["hidden"] or None
        )


def disc_texts(design: DiscDesign, shown: Mapping[str, str]) -> list[tuple[str, str, str]]:
    """(name, label, value) of the fields of that form as the disc is; shown are the texts that it has."""
    texts = [(name, _TEXT_LABELS[name], shown[name]) for name in DISC_TEXTS]
    return [
        *texts,
        ("first_pause", "First pause", gap_text(design.first_pause_sectors)),
    ]  # fmt: skip


_KINDS = (
    (DiscKind.AUDIO, "an audio CD"),
    (DiscKind.FILES, "a disc of compressed files"),
    (DiscKind.DATA, "a data disc"),
)
_LEVELS = (("none", "unchanged"), ("track", "tracks equal"), ("album", "album kept"))
_ENDS = (("", "as they are"), ("on", "without silence"))


@dataclass(frozen=True, slots=True)
class _NameRule:
    """How files of a disc are called, as a choice of its sentence."""

    label: str
    numbered: bool
    pattern: str = ""


_NAME_RULES = {
    "titles": _NameRule("number and title", True, "{number:03} {title}"),
    "performers": _NameRule("number, performer and title", True, "{number:03} {artist} - {title}"),
    "on": _NameRule("number and file name", True),
    "albums": _NameRule("album folders, track and title", False, "{album}/{track:02} {title}"),
    "": _NameRule("album folders, file names", False),
}
_OWN_PATTERN = "own"


def _name_rule(design: DiscDesign) -> str:
    for key, rule in _NAME_RULES.items():
        if (rule.numbered, rule.pattern) == (design.numbered, design.name_pattern):
            return key
    return _OWN_PATTERN


class TextRuleForm(ActForm):
    """What of the texts goes into the CD-Text."""

    rule = forms.ChoiceField(choices=list(TEXT_RULES.items()))

    @property
    def said(self) -> str:
        return f"CD-Text: {TEXT_RULES[self.cleaned_data['rule']]}"

    def change(self, design: DiscDesign) -> DiscDesign:
        return designs.with_text_rule(design, self.cleaned_data["rule"])


class SpellingForm(ActForm):
    """How texts are spelled in the CD-Text: pairs of fields, or all of them as JSON."""

    spellings = forms.JSONField(required=False, max_length=200_000)
    japanese = forms.ChoiceField(required=False, choices=[("on", "on"), ("off", "off")])

    @property
    def said(self) -> str:
        return "how texts are spelled in the CD-Text"

    def clean_spellings(self) -> dict[str, str]:
        given = self.cleaned_data["spellings"]
        if given is None:
            given = dict(zip(self.data.getlist("text"), self.data.getlist("spelled"), strict=False))
        if (
            not isinstance(given, dict)
            or len(given) > 2_000
            or not all(isinstance(each, str) for each in given.values())
        ):
            raise forms.ValidationError("These spellings cannot be read.")
        return given

    def change(self, design: DiscDesign) -> DiscDesign:
        wanted = self.cleaned_data["japanese"]
        return replace(
            designs.with_spellings(design, self.cleaned_data["spellings"]),
            japanese=design.japanese if not wanted else wanted == "on",
        )


class SentenceForm(ActForm):
    """A choice that is not in it leaves what was there; a speed above the blank's becomes its highest."""

    kind = forms.ChoiceField(required=False, label="Where it plays", choices=[(str(k), text) for k, text in _KINDS])
    medium = forms.ChoiceField(required=False, label="Blank", choices=[(m.key, m.a_label) for m in MEDIA])
    gap = forms.CharField(required=False, max_length=40, label="Gap between all tracks")
    level = forms.ChoiceField(required=False, label="Loudness", choices=_LEVELS)
    ends = forms.ChoiceField(required=False, label="Silence at the ends of tracks", choices=_ENDS)
    dither = forms.ChoiceField(
        required=False, label="Dither for sound that is not 16 bit", choices=[(k, k) for k in DITHERS]
    )
    target = forms.ChoiceField(required=False, label="Files for")
    names = forms.ChoiceField(
        required=False, label="Names of files",
        choices=[*((key, rule.label) for key, rule in _NAME_RULES.items()), (_OWN_PATTERN, "by your own pattern")],
    )  # fmt: skip
    pattern = forms.CharField(required=False, max_length=300, label="Pattern of names")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["target"].choices = [(target.slug, target.name) for target in all_targets()]  # type: ignore[attr-defined]

    @classmethod
    def of(cls, design: DiscDesign) -> "SentenceForm":
        """The sentence as the disc is."""
        form = cls(
            initial={
                "kind": str(design.kind), "medium": design.medium_key, "gap": gap_text(design.gap_sectors),
                "level": design.level, "ends": "on" if design.trims else "", "dither": design.dither, "target": design.target_slug,
                "names": _name_rule(design), "pattern": design.name_pattern or "{number:03} {title}",
            }
        )  # fmt: skip
        choices = [(str(gap), f"{gap} s") for gap in _GAPS]
        own = gap_text(design.gap_sectors)
        if own not in {key for key, _ in choices}:
            choices.append((own, f"{own} s" if ":" not in own else own))
        form.fields["gap"] = forms.ChoiceField(choices=choices, label="Gap between all tracks")
        form.fields["gap"].initial = own
        return form

    @property
    def said(self) -> str:
        return "the disc's sentence"

    def change(self, design: DiscDesign) -> DiscDesign:
        chosen = self.cleaned_data
        new = replace(
            design,
            kind=DiscKind(chosen["kind"] or design.kind),
            medium_key=chosen["medium"] or design.medium_key,
            level=chosen["level"] or design.level,
            dither=chosen["dither"] or design.dither,
            target_slug=chosen["target"] or design.target_slug,
        )
        if "ends" in self.data:
            new = replace(new, trims=chosen["ends"] == "on")
        if "names" in self.data:
            new = self._named(new)
        if new.kind is DiscKind.FILES and not new.target_slug:
            new = replace(new, target_slug=_usual_target())
        if new.kind is not DiscKind.AUDIO and design.kind is DiscKind.AUDIO and "names" not in self.data:
            new = replace(new, numbered=True, name_pattern=_NAME_RULES["titles"].pattern)
        if new.kind is DiscKind.DATA:
            new = replace(new, target_slug="")
        gap = chosen["gap"].strip()
        if gap and parse_gap(gap) != design.gap_sectors:
            new = designs.with_gap(new, parse_gap(gap))
        speeds = medium_for(new.medium_key).speeds
        return replace(
            new, speed=new.speed if new.speed in speeds else max(s for s in speeds if s <= max(new.speed, 4))
        )

    def _named(self, design: DiscDesign) -> DiscDesign:
        """Raises TargetError for a pattern that cannot be."""
        key = self.cleaned_data["names"]
        if key == _OWN_PATTERN:
            pattern = self.cleaned_data["pattern"].strip() or _NAME_RULES["titles"].pattern
            check_pattern(pattern)
            # A number that stands nowhere in the pattern puts nothing in order.
            return replace(design, numbered="{number" in pattern, name_pattern=pattern)
        rule = _NAME_RULES[key]
        return replace(design, numbered=rule.numbered, name_pattern=rule.pattern)


def _usual_target() -> str:
    """What most players of compressed files read."""
    slugs = [target.slug for target in all_targets()]
    return "car-mp3" if "car-mp3" in slugs else slugs[0]


class FillForm(forms.Form):
    """The pool that the rest of the disc may be filled from: the pull list, or a playlist."""

    pool = forms.ChoiceField(label="Fill remaining time from", widget=forms.Select(attrs={"class": "field"}))

    def __init__(self, *args: Any, lists: list[tuple[int, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["pool"].choices = [("pulled", "the pull list"), *((str(pk), name) for pk, name in lists)]  # type: ignore[attr-defined]


class InlayForm(forms.Form):
    """Which of our designs is printed."""

    variant = forms.ChoiceField(required=False, label="Design", choices=VARIANTS)

    def variant_chosen(self) -> str:
        """The first where none is named."""
        return (self.cleaned_data.get("variant") if self.is_valid() else "") or VARIANTS[0][0]


class TrayForm(forms.Form):
    """What lies beside the recorder and may be put in."""

    shelf = forms.ChoiceField(
        label="Disc", widget=forms.Select(attrs={"class": "field"}), choices=[(each.key, each.label) for each in SHELF]
    )


class WriteForm(forms.Form):
    """The recorder, the speed and how many copies."""

    recorder = forms.ChoiceField(
        required=False, label="Recorder", choices=[(kind.key, kind.label) for kind in RECORDERS]
    )
    speed = forms.TypedChoiceField(required=False, coerce=int, empty_value=None, label="Speed")
    pace = forms.ChoiceField(
        required=False, label="Pace", choices=[("quick", "as quick as the disk"), ("real", "at a real recorder's pace")]
    )
    copies = forms.IntegerField(
        required=False, min_value=1, max_value=99, label="Copies", widget=forms.NumberInput(attrs={"class": "field"})
    )

    def __init__(self, *args: Any, medium_key: str, recorder_key: str, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        speeds = recorder_for(recorder_key).speeds_for(medium_for(medium_key))
        self.fields["speed"].choices = [(speed, f"{speed}x") for speed in speeds]  # type: ignore[attr-defined]


ACTS: dict[str, type[ActForm]] = {
    "sentence": SentenceForm,
    "move": MoveForm,
    "step": StepForm,
    "gap": GapForm,
    "most-gap": MostGapForm,
    "join": JoinForm,
    "leave": LeaveForm,
    "into-gap": IntoGapForm,
    "remove": RemoveForm,
    "text": TextForm,
    "track": TrackForm,
    "disc-text": DiscTextForm,
    "cd-text": TextRuleForm,
    "spelling": SpellingForm,
}
