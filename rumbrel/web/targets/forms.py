"""The sentence of What plays where."""

from typing import Any

from django import forms

from rumbrel.core.targets import Target, all_targets, find_target

__all__ = ["WhereForm"]


class WhereForm(forms.Form):
    target = forms.ChoiceField(required=False, label="Target")
    tracks = forms.ChoiceField(
        required=False, label="Tracks", choices=[("", "the pulled tracks"), ("all", "the whole collection")]
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["target"].choices = [("", "every target"), *((each.slug, each.name) for each in all_targets())]

    def target_chosen(self) -> Target | None:
        """The target asked for; a name that no target has asks for all of them."""
        self.is_valid()
        slug = self.cleaned_data.get("target")
        return find_target(slug) if slug else None

    def whole_collection(self) -> bool:
        self.is_valid()
        return self.cleaned_data.get("tracks") == "all"
