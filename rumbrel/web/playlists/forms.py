"""Forms of playlists: one for making a list, one for each way of changing it."""

import secrets
from typing import Any

from django import forms

from rumbrel.core.playlists import ordering
from rumbrel.core.playlists.ordering import INTERLEAVES, ORDERS, ListRow

__all__ = ["ACTS", "ActForm", "AddForm", "BringForm", "DetailsForm", "MakeForm", "SearchForm"]


class MakeForm(forms.Form):
    name = forms.CharField(required=False, max_length=200, label="Make a list of the pulled tracks, named")


class BringForm(forms.Form):
    """A list that was made elsewhere."""

    file = forms.FileField(
        label="Import a playlist", help_text="M3U, M3U8, PLS, XSPF or a cue sheet",
        error_messages={"required": "Choose the file of a list first.", "empty": "That file is empty."},
    )  # fmt: skip


class DetailsForm(forms.Form):
    name = forms.CharField(max_length=200, label="Name", error_messages={"required": "A list needs a name."})
    notes = forms.CharField(required=False, max_length=20_000, label="Notes", widget=forms.Textarea(attrs={"rows": 2}))


def numbers(values: list[str]) -> list[int]:
    """Ids as far as they are numbers, each once."""
    kept = (
        int(text)
        for value in values
        for text in value.split()
        if text.isascii() and text.isdecimal() and len(text) < 19
    )
    return list(dict.fromkeys(kept))


class ActForm(forms.Form):
    """A change of a list. words says that it looks at titles and the like, of_rows that it is about rows that are
    selected."""

    revision = forms.IntegerField(required=False, min_value=0)
    words = False
    of_rows = False

    @property
    def marked(self) -> list[int]:
        """The entries that stay selected: those that were, which need not be those that move."""
        return numbers(self.data.getlist("marked")) if "marked" in self.data else self.entries

    @property
    def wrong(self) -> str:
        """Why it cannot be carried out, in a sentence; "" where it can."""
        if not self.is_valid():
            return "Choose from what is offered, then try again."
        if self.of_rows and not self.entries:
            return "No rows are selected. Select rows first, then choose what to do with them."
        return ""

    @property
    def entries(self) -> list[int]:
        """The entries that were marked, or the one whose button was pressed."""
        return numbers(self.data.getlist("entry"))[:100_000]

    @property
    def named(self) -> str:
        count = len(self.entries)
        return "1 track" if count == 1 else f"{count:,} tracks"

    @property
    def said(self) -> str:
        """What the change is, for undoing it."""
        return "a change"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        """Raises PlaylistError for what cannot be."""
        raise NotImplementedError


class MoveForm(ActForm):
    of_rows = True
    before = forms.IntegerField(required=False, min_value=0)

    @property
    def said(self) -> str:
        return f"{self.named} moved"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.moved(rows, self.entries, self.cleaned_data["before"])


class StepForm(ActForm):
    of_rows = True
    way = forms.ChoiceField(choices=[(way, way) for way in ("up", "down", "top", "end")])

    @property
    def said(self) -> str:
        return f"{self.named} moved {'to the ' if self.data.get('way') in ('top', 'end') else ''}{self.data.get('way', '')}"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.stepped(rows, self.entries, self.cleaned_data["way"])


class RemoveForm(ActForm):
    of_rows = True

    @property
    def said(self) -> str:
        return f"{self.named} removed"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.without(rows, self.entries)


class SortForm(ActForm):
    order = forms.ChoiceField(
        choices=[(key, text) for key, (text, _) in ORDERS.items()],
        label="Sort by",
        widget=forms.Select(attrs={"class": "field"}),
    )
    words = True

    @property
    def said(self) -> str:
        return f"sorted by {self.cleaned_data['order']}"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.sorted_by(rows, self.cleaned_data["order"])


class ShuffleForm(ActForm):
    """One seed gives one order of the same tracks; without one, or where a new one is asked for, chance chooses it."""

    seed = forms.CharField(required=False, max_length=40, label="Shuffle with the seed")
    fresh = forms.BooleanField(required=False)

    def clean(self) -> dict[str, Any]:
        chosen: dict[str, Any] = super().clean() or {}
        if chosen.get("fresh") or not chosen.get("seed", "").strip():
            chosen["seed"] = str(secrets.randbelow(_MOST_SEEDS))
        return chosen

    @property
    def said(self) -> str:
        return f"{SHUFFLED}{self.cleaned_data['seed']}"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.shuffled(rows, self.cleaned_data["seed"])


SHUFFLED = "shuffled with the seed "
_MOST_SEEDS = 100_000


class InterleaveForm(ActForm):
    by = forms.ChoiceField(
        choices=[(key, text) for key, (text, _) in INTERLEAVES.items()],
        label="Interleave",
        widget=forms.Select(attrs={"class": "field"}),
    )
    words = True

    @property
    def said(self) -> str:
        return f"interleaved by {self.cleaned_data['by']}"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.interleaved(rows, self.cleaned_data["by"])


class TurnForm(ActForm):
    @property
    def said(self) -> str:
        return "order reversed"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.turned_round(rows)


class DoublesForm(ActForm):
    @property
    def said(self) -> str:
        return "duplicates removed"

    def change(self, rows: list[ListRow]) -> list[ListRow]:
        return ordering.without_doubles(rows)


ACTS: dict[str, type[ActForm]] = {
    "move": MoveForm,
    "step": StepForm,
    "remove": RemoveForm,
    "sort": SortForm,
    "shuffle": ShuffleForm,
    "interleave": InterleaveForm,
    "turn": TurnForm,
    "doubles": DoublesForm,
}


class SearchForm(forms.Form):
    """What is looked for to be put on a list: tracks, or whole albums, performers or folders."""

    words = forms.CharField(required=False, max_length=200, label="Words")
    by = forms.ChoiceField(
        required=False, label="Look for",
        choices=[("", "tracks"), ("album", "albums"), ("performer", "performers"), ("folder", "folders")],
    )  # fmt: skip

    def asked(self) -> tuple[str, str]:
        """(words, by what they are grouped)."""
        if not self.is_valid():
            return "", ""
        return self.cleaned_data["words"], self.cleaned_data["by"]


class AddForm(forms.Form):
    """Tracks by their ids, all that a search finds, or the pull list."""

    what = forms.ChoiceField(choices=[(each, each) for each in ("tracks", "found", "pulled")])
    revision = forms.IntegerField(required=False, min_value=0)
