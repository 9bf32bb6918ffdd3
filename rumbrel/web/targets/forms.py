"""The sentence of What plays where."""

from typing import Any

from django import forms

from rumbrel.core.errors import TargetError
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.web.collection.models import Track

from .standing import FIT_KINDS

__all__ = ["SHOWN", "OwnTargetForm", "SampleForm", "WhereForm"]

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
        return listed_target(slug) if slug else None

    def tracks_chosen(self) -> str:
        """Empty for the pulled ones, "all", or SHOWN."""
        self.is_valid()
        return self.cleaned_data.get("tracks") or ""

    def group_chosen(self) -> tuple[str, str]:
        """(kind of fit, key of its reason), "" where all are wanted."""
        self.is_valid()
        return self.cleaned_data.get("fit") or "", self.cleaned_data.get("why") or ""


class SampleForm(forms.Form):
    """Which track a sample is made of, and from where."""

    track = forms.ModelChoiceField(Track.objects.all(), widget=forms.HiddenInput)
    start = forms.FloatField(required=False, min_value=0, max_value=1e7, label="From, in seconds")


class OwnTargetForm(forms.Form):
    """A target's description, typed or from a file."""

    text = forms.CharField(required=False, strip=False, max_length=256 * 1024, label="Description in TOML")
    file = forms.FileField(required=False, max_length=400, label="Or from a file")

    def description(self) -> str:
        """The file's text where one came, else what was typed. Raises TargetError."""
        self.is_valid()
        file = self.cleaned_data.get("file")
        if file is None:
            return self.cleaned_data.get("text") or ""
        if file.size > 256 * 1024:
            raise TargetError(f"{file.name[:80]} is too large to be a target's description.")
        try:
            return file.read().decode("utf-8-sig")
        except UnicodeDecodeError as error:
            raise TargetError(f"{file.name[:80]} is not written in UTF-8.") from error
