"""The sentence of What plays where."""

from typing import Any

from django import forms

from rumbrel.core.targets import Target, all_targets, find_target

from .standing import FIT_KINDS

__all__ = ["SHOWN", "WhereForm"]

SHOWN = "shown"
"""The tracks that a sentence of the collection finds, which stands in the same address."""


class WhereForm(forms.Form):
    target = forms.ChoiceField(required=False, label="Target")
    tracks = forms.ChoiceField(
        required=False,
        label="Tracks",
        choices=[("", "the pulled tracks"), ("all", "the whole collection"), (SHOWN, "what the collection shows")],
    )
    fit = forms.ChoiceField(required=False, choices=[(str(kind), str(kind)) for kind in FIT_KINDS])
    why = forms.CharField(required=False, max_length=20)

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        if self.data.get("tracks") != SHOWN:
            self.fields["tracks"].choices = self.fields["tracks"].choices[:2]
        self.fields["target"].choices = [("", "every target"), *((each.slug, each.name) for each in all_targets())]

    def target_chosen(self) -> Target | None:
        """The target asked for; a name that no target has asks for all of them."""
        self.is_valid()
        slug = self.cleaned_data.get("target")
        return find_target(slug) if slug else None

    def tracks_chosen(self) -> str:
        """Empty for the pulled ones, "all", or SHOWN."""
        self.is_valid()
        return self.cleaned_data.get("tracks") or ""

    def group_chosen(self) -> tuple[str, str]:
        """(kind of fit, key of its reason), "" where all are wanted."""
        self.is_valid()
        return self.cleaned_data.get("fit") or "", self.cleaned_data.get("why") or ""
