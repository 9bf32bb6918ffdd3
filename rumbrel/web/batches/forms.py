"""The forecast's sentence, and what is chosen for single tracks."""

from collections.abc import Iterator
from dataclasses import replace
from functools import cached_property
from typing import Any

from django import forms
from django.http import QueryDict

from rumbrel.core.errors import TargetError
from rumbrel.core.forecast import Action, WarningCode, WhenPresent
from rumbrel.core.places import FILE_SYSTEMS
from rumbrel.core.playlists import LIST_SUFFIXES
from rumbrel.core.tags import Cover
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.core.targets.pattern import check_pattern
from rumbrel.core.targets.ways import made_otherwise, ways_of
from rumbrel.core.workflows.convert import LevelWish
from rumbrel.web.tags.fields import CoverField
from rumbrel.web.ui.words import LEVEL_WORDS, WHEN_WORDS

from .models import COVERAGES
from .wishes import BatchWish, Choice, Destination, DestinationKind

__all__ = [
    "MOST_TARGETS",
    "ExportForm",
    "FolderChoiceForm",
    "ForecastForm",
    "MarkedForm",
    "ShownForm",
    "TrackChoiceForm",
    "query_of",
]

_LEVEL_WORDS = {"": "as the target sets it", **LEVEL_WORDS}
_LIMIT = "limit"
_PEAK_WORDS = {"": "turn the track down", _LIMIT: "limit them, which changes the sound"}
_DESTINATION_WORDS = {
    DestinationKind.RESULTS: "the results folder",
    DestinationKind.BESIDE: "the folders of the originals",
    DestinationKind.FOLDER: "a folder named below",
}
_TAGS_OF_A_RESULT = frozenset({"title", "artist", "album", "track", "date", "comment"})
_ENDS_WORDS = {"": "kept", "trim": "left out"}
FIRST_TARGET = "car-mp3"
MOST_TARGETS = 6


class ForecastForm(forms.Form):
    """Everything that the sentence says, in one address; target can stand in it several times."""

    way = forms.ChoiceField(required=False, label="Made as")
    into = forms.ChoiceField(
        required=False, label="Destination", choices=[(str(k), word) for k, word in _DESTINATION_WORDS.items()]
    )
    folder = forms.CharField(required=False, max_length=4096, strip=True, label="Folder")
    pattern = forms.CharField(required=False, max_length=300, strip=True, label="Naming pattern")
    addition = forms.CharField(required=False, max_length=80, strip=False, label="Added to each name")
    system = forms.ChoiceField(
        required=False,
        label="File system",
        choices=[("", "the target’s file system"), *((row.key, row.label) for row in FILE_SYSTEMS)],
    )
    when = forms.ChoiceField(
        required=False, label="If a name exists", choices=[(str(key), word) for key, word in WHEN_WORDS.items()]
    )
    level = forms.ChoiceField(required=False, label="Level", choices=list(_LEVEL_WORDS.items()))
    peaks = forms.ChoiceField(
        required=False, label="When peaks would pass the ceiling", choices=list(_PEAK_WORDS.items())
    )
    ends = forms.ChoiceField(required=False, label="Silence at both ends", choices=list(_ENDS_WORDS.items()))

    def __init__(self, data: QueryDict, **more: Any) -> None:
        super().__init__(data, **more)
        self.troubles: list[str] = []
        known = {target.slug: target for target in all_targets()}
        only = known.get(self._slugs[0]) if len(self._slugs) == 1 else None
        ways = ways_of(only) if only else ()
        self.fields["way"].choices = [("", "the target makes it"), *((way.key, way.label) for way in ways)]

    @cached_property
    def _slugs(self) -> list[str]:
        asked = self.data.getlist("target") if isinstance(self.data, QueryDict) else [self.data.get("target", "")]
        return list(dict.fromkeys(slug for slug in asked if slug))[:MOST_TARGETS] or [FIRST_TARGET]

    def targets_chosen(self) -> tuple[Target, ...]:
        """With the way of making that the sentence names. Raises TargetError for a name that no target has."""
        targets = [listed_target(slug) for slug in self._slugs]
        self.is_valid()
        way = self.cleaned_data.get("way") or ""
        if way and len(targets) == 1:
            return (made_otherwise(targets[0], way),)
        if self.data.get("way"):
            names = " and ".join(target.name for target in targets)
            self.troubles.append(f"The way of making that was chosen is none of {names}: files are made as it says.")
        return tuple(targets)

    def target_choices(self) -> list[tuple[str, list[tuple[str, str, bool]]]]:
        """(label, options) of the sentence's selects: one for each target and one for another."""
        known = [(target.slug, target.name) for target in all_targets()]
        selects = []
        for number, slug in enumerate(self._slugs, 1):
            first = [] if len(self._slugs) == 1 else [("", "(not this one)", False)]
            options = [(key, name, key == slug) for key, name in known if key == slug or key not in self._slugs]
            selects.append((f"Target {number}" if number > 1 else "Target", first + options))
        if len(self._slugs) < MOST_TARGETS:
            more = [(key, name, False) for key, name in known if key not in self._slugs]
            selects.append(("Another target", [("", "no other", True), *more]))
        return selects

    def wish(self, choices: tuple[Choice, ...] = ()) -> BatchWish:
        """Choices that cannot be are left open and said in troubles. Raises TargetError for a name that no target
        has, OutputError for a folder that may not be written."""
        self.is_valid()
        chosen, targets = self.cleaned_data, self.targets_chosen()
        level = LevelWish(mode=chosen.get("level") or None)
        if all(level.rule_for(target).mode in ("track", "album") for target in targets):
            # Where nothing is lifted there is nothing to limit, and the sentence does not ask.
            limits = chosen.get("peaks") == _LIMIT
            level = replace(level, limits=limits)
        kept, others = self._with_targets(choices, targets)
        return BatchWish(
            targets=targets,
            when_present=WhenPresent(chosen.get("when") or WhenPresent.SKIP),
            level=level,
            destination=self._destination(),
            pattern=self._pattern(),
            addition=chosen.get("addition") or "",
            file_system=chosen.get("system") or "",
            trims=bool(chosen.get("ends")),
            choices=kept,
            others=others,
        )

    def _destination(self) -> Destination:
        kind = DestinationKind(self.cleaned_data.get("into") or DestinationKind.RESULTS)
        folder = self.cleaned_data.get("folder") or ""
        if kind is not DestinationKind.FOLDER:
            return Destination(kind=kind)
        if not folder:
            self.troubles.append("No folder is named yet, so the results go to the results folder.")
            return Destination()
        return Destination(kind=kind, folder=folder)

    def _pattern(self) -> str:
        pattern = self.cleaned_data.get("pattern") or ""
        if pattern:
            try:
                check_pattern(pattern)
            except TargetError as error:
                self.troubles.append(f"{error} Names are as the target says.")
                return ""
        return pattern

    def _with_targets(
        self, choices: tuple[Choice, ...], targets: tuple[Target, ...]
    ) -> tuple[tuple[Choice, ...], tuple[Target, ...]]:
        """Choices whose targets there are, and those targets that the sentence does not name itself."""
        known, own = {target.slug: target for target in all_targets()}, {target.slug for target in targets}
        gone = sorted({c.target_slug for c in choices if c.target_slug and c.target_slug not in known})
        if gone:
            self.troubles.append(
                f"Some tracks were to be made for {', '.join(gone)}, which is no longer a target: they go with the others."
            )
        kept = tuple(replace(c, target_slug="") if c.target_slug in gone else c for c in choices)
        others = {c.target_slug: known[c.target_slug] for c in kept if c.target_slug and c.target_slug not in own}
        return kept, tuple(others.values())

    def hidden(self) -> Iterator[tuple[str, str]]:
        """(name, value) of all that the sentence says, for forms that act on the same forecast."""
        self.is_valid()
        for slug in self._slugs:
            yield "target", slug
        for name in self.fields:
            value = self.cleaned_data.get("way", "") if name == "way" else self.data.get(name, "")
            if value:
                yield name, value

    @property
    def query(self) -> str:
        address = QueryDict(mutable=True)
        for name, value in self.hidden():
            address.appendlist(name, value)
        return address.urlencode()


def query_of(wish: BatchWish) -> str:
    """The address of the forecast with a batch's settings, as far as its targets are still as they were."""
    known = {target.slug: target for target in all_targets()}
    address = QueryDict(mutable=True)
    for target in wish.targets:
        if target.slug in known:
            address.appendlist("target", target.slug)
    values = {
        "way": _way_of(wish, known), "into": str(wish.destination.kind), "folder": wish.destination.folder,
        "pattern": wish.pattern, "addition": wish.addition, "system": wish.file_system, "when": str(wish.when_present),
        "level": wish.level.mode or "", "peaks": _LIMIT if wish.level.limits else "", "ends": "trim" if wish.trims else "",
    }  # fmt: skip
    for name, value in values.items():
        if value:
            address[name] = value
    return address.urlencode()


def _way_of(wish: BatchWish, known: dict[str, Target]) -> str:
    """The way of making by which a batch differed from its only target; "" where it did not."""
    target = known.get(wish.targets[0].slug) if len(wish.targets) == 1 else None
    if target is None or target.make == wish.targets[0].make:
        return ""
    return next((way.key for way in ways_of(target) if way.recipe == wish.targets[0].make), "")


class FolderChoiceForm(forms.Form):
    path = forms.CharField(required=False, max_length=4096)


class ShownForm(forms.Form):
    """Which lines of a forecast are shown."""

    what = forms.ChoiceField(required=False, choices=[(str(each), str(each)) for each in Action])
    code = forms.ChoiceField(required=False, choices=[(str(each), str(each)) for each in WarningCode])

    def chosen(self) -> tuple[str, str]:
        """(action, code of a warning), "" where all are wanted."""
        self.is_valid()
        return self.cleaned_data.get("what") or "", self.cleaned_data.get("code") or ""


class MarkedForm(forms.Form):
    """What is to be done with marked lines, or with all that share an action or a warning."""

    LEAVE, TAKE, OFF, FOR, FORGET = "leave", "take", "off", "for", "forget"
    act = forms.ChoiceField(choices=[(word, word) for word in (LEAVE, TAKE, OFF, FOR, FORGET)])
    other = forms.CharField(required=False, max_length=80)
    track = forms.MultipleChoiceField(required=False)
    """A track, or the line of one target of it: its number, or number:target."""

    def __init__(self, data: QueryDict, *, ids: list[int]) -> None:
        super().__init__(data)
        there = set(map(str, ids))
        sent = [line for line in data.getlist("track") if line.partition(":")[0] in there]
        self.fields["track"].choices = [(line, line) for line in sent]

    def lines(self) -> list[tuple[int, str]]:
        """Of the marked lines: the track, and the slug of the target; "" for all of the track's."""
        parts = [line.partition(":") for line in self.cleaned_data["track"]]
        return [(int(pk), slug) for pk, _, slug in parts]


class TrackChoiceForm(forms.Form):
    """What one track is to have otherwise than its batch."""

    left_out = forms.BooleanField(required=False, label="Leave it out of the batch")
    target_slug = forms.ChoiceField(required=False, label="Target")
    name = forms.CharField(required=False, max_length=500, label="Name of its result, without ending")
    bare = forms.BooleanField(required=False, label="Leave its pictures out of its result")
    cover = CoverField(label="Another picture in its result, JPEG or PNG")
    own_cover = forms.BooleanField(required=False, label="Its own pictures again")

    LABELS = {row.name: row.label for row in FIELDS if row.name in _TAGS_OF_A_RESULT}

    def __init__(self, *args: Any, tags: dict[str, str], **more: Any) -> None:
        super().__init__(*args, **more)
        self._tags = tags
        self.fields["target_slug"].choices = [("", "as the batch"), *((t.slug, t.name) for t in all_targets())]
        for name, label in self.LABELS.items():
            self.fields[f"tag_{name}"] = forms.CharField(required=False, max_length=5_000, label=label)

    def cover_chosen(self) -> Cover | None:
        """The new one; one without data where the source's own are to be taken again; None for no change."""
        chosen: Cover | None = self.cleaned_data.get("cover")
        return chosen or (Cover(media_type="") if self.cleaned_data.get("own_cover") else None)

    def changed_tags(self) -> list[tuple[str, str]]:
        """What differs from the source's own."""
        sent = ((name, self.cleaned_data[f"tag_{name}"]) for name in self.LABELS)
        return [(name, value) for name, value in sent if value != self._tags.get(name, "")]

    def tag_fields(self) -> list[forms.BoundField]:
        return [self[f"tag_{name}"] for name in self.LABELS]


class ExportForm(forms.Form):
    """Whose paths a list has as a file, and of which kind it is."""

    paths = forms.ChoiceField(required=False, label="Paths", widget=forms.Select(attrs={"class": "field"}))
    kind = forms.ChoiceField(
        label="Kind", choices=[(suffix, suffix[1:].upper()) for suffix in LIST_SUFFIXES],
        widget=forms.Select(attrs={"class": "field"}),
    )  # fmt: skip

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        choices = [("", "of this server"), *((target.slug, f"for {target.name}") for target in all_targets())]
        self.fields["paths"].choices = choices  # type: ignore[attr-defined]


class CoversForm(forms.Form):
    """What is kept in sync."""

    covers = forms.ChoiceField(choices=tuple(COVERAGES.items()))


class DigestDaysForm(forms.Form):
    """Every how many days the bytes of originals are compared."""

    CHOICES = (("0", "never"), ("1", "every day"), ("7", "every 7 days"), ("30", "every 30 days"))

    days = forms.ChoiceField(choices=CHOICES, label="Compare digests")
