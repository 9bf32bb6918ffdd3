"""One form for the collection's sentence and for each action."""

from typing import Any

from django import forms

from .columns import COLUMNS, USUAL_COLUMNS
from .duplicates import RECORDING, SOUND
from .models import SourceFolder
from .queries import GROUPS, choices, titles_of
from .sentence import ADDED, ANY, HAS, KINDS, LACKS, NONE, ORDERS, Sentence

LONGEST_SEARCH = 400
MOST_PICTURE_COLUMNS = 2400


_RANGES = {
    "minutes": "minutes", "kbps": "kbit/s", "khz": "kHz", "mb": "MB", "year": "by date",
}  # fmt: skip
"""What has a least and a most, and how it is called."""
_BOUNDS = tuple(f"{bound}_{name}" for name in _RANGES for bound in ("least", "most"))
_FINER = ("kind", "has", "lacks", "added", "or_format", "then", "turned", *_BOUNDS)


def _seconds(minutes: float | None) -> float | None:
    return None if minutes is None else minutes * 60


class SentenceForm(forms.Form):
    """A choice that is not among those there is left open, as if it had not been made."""

    folder = forms.ChoiceField(required=False, label="Folder")
    format = forms.ChoiceField(required=False, label="Format")
    rate = forms.ChoiceField(required=False, label="Sample rate")
    fault = forms.ChoiceField(required=False, label="Faults")
    order = forms.ChoiceField(required=False, label="Sorted by", choices=[(name, name) for name in ORDERS])
    text = forms.CharField(required=False, label="Words", max_length=LONGEST_SEARCH)
    or_format = forms.ChoiceField(required=False, label="Or of the format")
    then = forms.ChoiceField(
        required=False, label="Then by", choices=[("", "nothing else"), *((name, name) for name in ORDERS)]
    )
    turned = forms.ChoiceField(required=False, label="Direction", choices=[("", "ascending"), ("yes", "descending")])
    kind = forms.ChoiceField(
        required=False, label="Kind", choices=[("", "of any kind"), *((name, f"{name} alone") for name in KINDS)]
    )
    has = forms.ChoiceField(
        required=False,
        label="With",
        choices=[("", "whatever tags they have"), *((name, f"with {name}") for name in HAS)],
    )
    lacks = forms.ChoiceField(
        required=False,
        label="Without",
        choices=[("", "any gaps in tags"), *((name, f"without {name}") for name in LACKS)],
    )
    added = forms.ChoiceField(
        required=False, label="Added", choices=[("", "added at any time"), *((name, f"added {name}") for name in ADDED)]
    )
    album = forms.CharField(required=False, max_length=2_000, strip=False, widget=forms.HiddenInput)
    performer = forms.CharField(required=False, max_length=2_000, strip=False, widget=forms.HiddenInput)
    directory = forms.CharField(required=False, max_length=4_096, strip=False, widget=forms.HiddenInput)
    within = forms.CharField(required=False, max_length=4_096, strip=False, widget=forms.HiddenInput)
    least_minutes = forms.FloatField(required=False, label="Minutes, at least", min_value=0, max_value=100_000)
    most_minutes = forms.FloatField(required=False, label="Minutes, at most", min_value=0, max_value=100_000)
    least_kbps = forms.IntegerField(required=False, label="kbit/s, at least", min_value=0, max_value=1_000_000)
    most_kbps = forms.IntegerField(required=False, label="kbit/s, at most", min_value=0, max_value=1_000_000)
    least_khz = forms.FloatField(required=False, label="kHz, at least", min_value=0, max_value=10_000)
    most_khz = forms.FloatField(required=False, label="kHz, at most", min_value=0, max_value=10_000)
    least_mb = forms.FloatField(required=False, label="MB, at least", min_value=0, max_value=10_000_000)
    most_mb = forms.FloatField(required=False, label="MB, at most", min_value=0, max_value=10_000_000)
    least_year = forms.IntegerField(required=False, label="Year, from", min_value=0, max_value=9_999)
    most_year = forms.IntegerField(required=False, label="Year, to", min_value=0, max_value=9_999)
    after = forms.IntegerField(required=False, min_value=1, max_value=2**62, widget=forms.HiddenInput)
    before = forms.IntegerField(required=False, min_value=1, max_value=2**62, widget=forms.HiddenInput)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        there = choices()
        for name, empty in (("folder", "all folders"), ("format", "any format"), ("rate", "any rate")):
            self.fields[name].choices = [("", empty), *there[name]]
        self.fields["or_format"].choices = [("", "no other"), *there["format"]]
        self.fields["fault"].choices = [("", "with or without"), (NONE, "without"), (ANY, "with any"), *there["fault"]]

    def sentence(self) -> Sentence:
        """What was chosen, as far as it can be."""
        self.is_valid()
        chosen = self.cleaned_data
        given = {
            name: chosen[name]
            for name in ("format", "or_format", "fault", "text", "order", "then", "kind", "has", "lacks", "added", "album")
            if chosen.get(name)
        }  # fmt: skip
        bounds = {name: chosen[name] for name in _BOUNDS if chosen.get(name) is not None and "minutes" not in name}
        return Sentence(
            **given,
            **bounds,
            folder=int(chosen["folder"]) if chosen.get("folder") else None,
            rate=int(chosen["rate"]) if chosen.get("rate") else None,
            performer=chosen.get("performer") or "",
            directory=chosen.get("directory") if "directory" in self.data else None,
            within=chosen.get("within") or "",
            turned=bool(chosen.get("turned")),
            least_seconds=_seconds(chosen.get("least_minutes")),
            most_seconds=_seconds(chosen.get("most_minutes")),
        )

    def columns(self) -> list[str]:
        """The columns that were chosen, in their order, else the usual ones."""
        asked = self.data.getlist("columns") if hasattr(self.data, "getlist") else []
        return [name for name in dict.fromkeys(asked) if name in COLUMNS] or list(USUAL_COLUMNS)

    def ranges(self) -> list[tuple[str, Any, Any]]:
        """(unit, the field of the least, that of the most)."""
        return [(word, self[f"least_{name}"], self[f"most_{name}"]) for name, word in _RANGES.items()]

    def remarks(self) -> list[str]:
        """What could not be taken as it was asked, in the user's words."""
        self.is_valid()
        said = []
        if "text" in self.errors:
            said.append(f"The words are longer than {LONGEST_SEARCH} characters, so they were ignored. Use fewer.")
        odd = [str(self.fields[name].label) for name in _BOUNDS if name in self.errors]
        if odd:
            said.append(f"Ignored, because they are not such numbers: {'; '.join(odd)}.")
        return said

    @property
    def is_narrower(self) -> bool:
        """Whether any of the finer choices is made, so that they are shown."""
        return any(self.data.get(name) for name in _FINER)

    def cursor(self) -> dict[str, int | None]:
        self.is_valid()
        return {"after": self.cleaned_data.get("after"), "before": self.cleaned_data.get("before")}


class GroupForm(forms.Form):
    """By what tracks are grouped, and behind which name the page begins."""

    by = forms.ChoiceField(required=False, label="Grouped by", choices=[(name, name) for name in GROUPS])
    behind = forms.CharField(required=False, max_length=4_096, strip=False)
    behind_folder = forms.IntegerField(required=False, min_value=1, max_value=2**62)

    def grouping(self) -> str:
        self.is_valid()
        return self.cleaned_data.get("by") or next(iter(GROUPS))

    def after(self) -> str | None:
        """ "" is a name too: of those without one."""
        self.is_valid()
        return self.cleaned_data.get("behind") if "behind" in self.data else None

    def after_folder(self) -> int | None:
        self.is_valid()
        return self.cleaned_data.get("behind_folder")


class PictureForm(forms.Form):
    """A stretch of a picture; what cannot be is the whole."""

    start = forms.FloatField(required=False, min_value=0)
    end = forms.FloatField(required=False, min_value=0)
    columns = forms.IntegerField(required=False, min_value=2, max_value=MOST_PICTURE_COLUMNS)

    def stretch(self, seconds: float) -> tuple[float, float, int]:
        """From and to in seconds, and how many columns."""
        self.is_valid()
        chosen = self.cleaned_data
        start, end = min(chosen.get("start") or 0.0, seconds), min(chosen.get("end") or seconds, seconds)
        if end <= start:
            start, end = 0.0, seconds
        return start, end, chosen.get("columns") or MOST_PICTURE_COLUMNS


class DuplicatesForm(forms.Form):
    kind = forms.ChoiceField(
        required=False,
        label="What is equal",
        choices=[(SOUND, "the same sound, sample for sample"), (RECORDING, "the same recording in other formats")],
    )

    def kind_chosen(self) -> str:
        self.is_valid()
        return self.cleaned_data.get("kind") or SOUND


class IdsForm(forms.Form):
    """Ids of tracks, divided by spaces."""

    ids = forms.RegexField(r"^[0-9 ]+$", max_length=400_000)

    def there(self) -> list[int]:
        """Those that are there, in their order."""
        asked = [int(word) for word in self.cleaned_data["ids"].split() if len(word) < 19]
        known = titles_of(asked)
        return [pk for pk in asked if pk in known]


class SavedViewForm(forms.Form):
    """A name for what is shown, and the query of its address."""

    name = forms.CharField(label="Name of the view", max_length=80)
    query = forms.CharField(required=False, max_length=8_000)


class FolderForm(forms.Form):
    path = forms.CharField(label="Folder", max_length=4096, strip=True)


class BrowseForm(forms.Form):
    """The folder that is looked into; "" for the allowed ones themselves."""

    path = forms.CharField(required=False, max_length=4096, strip=False)


class NameForm(forms.Form):
    label = forms.CharField(required=False, label="Called", max_length=120)


class FixityForm(forms.Form):
    """Which folder, "" for all; and a list of checksums of one."""

    folder = forms.ModelChoiceField(SourceFolder.objects.order_by("path"), required=False, empty_label="all folders")
    checksums = forms.FileField(required=False, label="List of SHA-256 checksums", max_length=400)


class SoundForm(forms.Form):
    """The number of a sound in its file, from 1."""

    number = forms.IntegerField(min_value=1, max_value=1_000)


class CutForm(forms.Form):
    """Which way of cutting a file."""

    key = forms.CharField(max_length=400)


class PlanForm(forms.Form):
    """How often a folder is compared, in days."""

    days = forms.TypedChoiceField(
        label="Compared",
        coerce=int,
        choices=[
            (0, "on request"),
            (1, "every day"),
            (7, "every week"),
            (30, "every 30 days"),
            (91, "every 3 months"),
            (365, "every year"),
        ],
    )


class WatchForm(forms.Form):
    watched = forms.BooleanField(required=False)


class BagForm(forms.Form):
    """The bag's name, what goes into it ("" for the pulled tracks, else a folder), and words for who receives it."""

    name = forms.CharField(label="Name of the bag", max_length=100)
    folder = forms.ModelChoiceField(
        SourceFolder.objects.order_by("path"), required=False, empty_label="the pulled tracks", label="What goes in"
    )
    description = forms.CharField(required=False, max_length=4_000, label="Words for who receives it")


class DroppedFileForm(forms.Form):
    """One file of a drop: its name with its folders, and how many bytes come."""

    name = forms.CharField(max_length=4096)
    size = forms.IntegerField(min_value=0, max_value=2**62)


class DropForm(forms.Form):
    """Files that were dropped on the page; each is kept under its own name."""

    files = forms.FileField(widget=forms.FileInput, required=False)
