"""The forecast's sentence."""

from dataclasses import replace
from typing import Any

from django import forms

from rumbrel.core.forecast import WhenPresent
from rumbrel.core.targets import Target, all_targets, listed_target
from rumbrel.core.workflows.convert import LevelWish

from .services import BatchWish

__all__ = ["ForecastForm"]

_WHEN_WORDS = {WhenPresent.SKIP: "skip", WhenPresent.REPLACE: "replace", WhenPresent.NUMBER: "add a number"}
_LEVEL_WORDS = {
    "": "as the target sets it",
    "none": "unchanged",
    "track": "tracks equal",
    "album": "album kept",
    "tags": "in tags only",
}
_LIMIT = "limit"
_PEAK_WORDS = {"": "turn the track down", _LIMIT: "limit them, which changes the sound"}
FIRST_TARGET = "car-mp3"


class ForecastForm(forms.Form):
    target = forms.ChoiceField(required=False, label="Target")
    when = forms.ChoiceField(
        required=False, label="When a name is taken", choices=[(str(key), word) for key, word in _WHEN_WORDS.items()]
    )

    level = forms.ChoiceField(required=False, label="Level", choices=list(_LEVEL_WORDS.items()))
    peaks = forms.ChoiceField(
        required=False, label="When peaks would pass the ceiling", choices=list(_PEAK_WORDS.items())
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["target"].choices = [(each.slug, each.name) for each in all_targets()]

    def target_chosen(self) -> Target:
        """Raises TargetError for a name that no target has."""
        return listed_target(self.data.get("target") or FIRST_TARGET)

    def wish(self) -> BatchWish:
        """Choices that cannot be are left open. Raises TargetError for a name that no target has."""
        self.is_valid()
        chosen, target = self.cleaned_data, self.target_chosen()
        level = LevelWish(mode=chosen.get("level") or None)
        if level.rule_for(target).mode in ("track", "album"):
            # Where nothing is lifted there is nothing to limit, and the sentence does not ask.
            level = replace(level, limits=chosen.get("peaks") == _LIMIT)
        return BatchWish(target=target, when_present=WhenPresent(chosen.get("when") or WhenPresent.SKIP), level=level)
