"""What is asked of the tags of some tracks."""

from typing import Any

from django import forms

from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.tags.wishes import CASES, TagWish

from .fields import CoverField
from .models import TagEdit

__all__ = ["MAIN_FIELDS", "EditForm", "TracksForm"]

MAIN_FIELDS = (
    "title", "artist", "album", "album_artist", "composer", "track", "disc", "date", "genre", "comment",
)  # fmt: skip
LONGEST_VALUE = 4_000
MOST_CELL_CHARACTERS = 4_000_000
MOST_TRACKS = 10_000
_LABELS = [(row.name, row.label) for row in FIELDS]


class TrackNumbers(forms.CharField):
    """Numbers between commas; nothing for the pulled tracks. What is neither stands for no tracks at all."""

    def to_python(self, value: Any) -> list[int] | None:
        text = super().to_python(value)
        if not text:
            return None
        words = text.split(",")
        if len(words) > MOST_TRACKS or not all(w.isascii() and w.isdecimal() and len(w) < 19 for w in words):
            raise forms.ValidationError("The page did not say which tracks. Open it again from the collection.")
        return [int(word) for word in words]

    def validate(self, value: Any) -> None:
        """Anything that could be read will do."""

    def run_validators(self, value: Any) -> None:
        """Lengths are counted in numbers."""


class TracksForm(forms.Form):
    """Which tracks: the pulled ones, or those of some numbers."""

    tracks = TrackNumbers(required=False)

    def ids(self) -> list[int] | None:
        """None for the pulled ones; none at all for what cannot be read."""
        return self.cleaned_data["tracks"] if self.is_valid() or "tracks" in self.cleaned_data else []


class EditForm(TracksForm):
    """What was typed into the grid, and what is asked of all files at once."""

    more_name = forms.ChoiceField(required=False, label="Set", choices=[("", "–"), *_LABELS])
    more_value = forms.CharField(required=False, label="to", max_length=LONGEST_VALUE)
    cells = forms.JSONField(required=False, max_length=MOST_CELL_CHARACTERS)
    pattern = forms.CharField(required=False, label="From file names", max_length=300, strip=False)
    swap_one = forms.ChoiceField(required=False, label="Swap", choices=[("", "–"), *_LABELS])
    swap_other = forms.ChoiceField(required=False, label="with", choices=[("", "–"), *_LABELS])
    trims = forms.BooleanField(required=False, label="Trim spaces")
    case = forms.ChoiceField(
        required=False,
        label="Letter case",
        choices=[("", "as it is"), *((key, each[0]) for key, each in CASES.items())],
    )
    case_field = forms.ChoiceField(required=False, label="of", choices=_LABELS, initial="title")
    numbers = forms.BooleanField(required=False, label="Number in this order")
    first_number = forms.IntegerField(required=False, label="from", min_value=0, max_value=9_999, initial=1)
    cover_act = forms.ChoiceField(
        required=False, label="Pictures",
        choices=[choice for choice in TagEdit.CoverAct.choices if choice[0] != TagEdit.CoverAct.BACK],
    )  # fmt: skip
    cover = CoverField(label="Picture")
    cover_pixels = forms.IntegerField(required=False, label="at most", min_value=16, max_value=4_000, initial=600)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        for name in ("cover", "pattern", "case"):
            self.fields[name].widget.attrs["aria-label"] = str(self.fields[name].label)

    def clean_cells(self) -> dict[int, dict[str, str]]:
        """What was typed into single cells: texts by field, by the numbers of tracks."""
        given = self.cleaned_data["cells"] or {}
        try:
            cells = {int(pk): dict(fields) for pk, fields in given.items()}
        except (AttributeError, TypeError, ValueError) as error:
            raise forms.ValidationError("What was typed could not be read. Type it again.") from error
        texts = [text for fields in cells.values() for text in fields.values()]
        if not all(isinstance(text, str) and len(text) <= LONGEST_VALUE for text in texts):
            raise forms.ValidationError(f"A value has at most {LONGEST_VALUE:,} characters.")
        return cells

    def clean(self) -> dict[str, Any]:
        found = super().clean() or {}
        if bool(found.get("swap_one")) != bool(found.get("swap_other")):
            self.add_error("swap_other", "Choose both fields to swap.")
        return found

    def remarks(self) -> list[str]:
        """What could not be taken as it was asked, each beside the name of its field."""
        self.is_valid()
        return [
            str(error) if name == "__all__" else f"{self.fields[name].label}: {error}"
            for name, errors in self.errors.items()
            for error in errors
        ]

    def wish(self) -> TagWish:
        """What was asked; call is_valid before."""
        found = self.cleaned_data
        values = {found["more_name"]: found.get("more_value", "")} if found.get("more_name") else {}
        one, other = found.get("swap_one"), found.get("swap_other")
        first = found.get("first_number")
        return TagWish(
            pattern=found.get("pattern", ""), values=values, swap=(one, other) if one and other else None,
            trims=bool(found.get("trims")), case=found.get("case", ""), case_fields=(found.get("case_field") or "title",),
            numbers=bool(found.get("numbers")), first_number=1 if first is None else first,
            cells=found.get("cells") or {},
        )  # fmt: skip
