"""The forecast's sentence."""

from typing import Any

from django import forms

from rumbrel.core.forecast import WhenPresent
from rumbrel.core.targets import Target, all_targets, find_target

__all__ = ["ForecastForm"]

_WHEN_WORDS = {WhenPresent.SKIP: "skip", WhenPresent.REPLACE: "replace", WhenPresent.NUMBER: "add a number"}
FIRST_TARGET = "car-mp3"


class ForecastForm(forms.Form):
    target = forms.ChoiceField(required=False, label="Target")
    when = forms.ChoiceField(
        required=False, label="When a name is taken", choices=[(str(key), word) for key, word in _WHEN_WORDS.items()]
    )

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["target"].choices = [(each.slug, each.name) for each in all_targets()]

    def target_chosen(self) -> Target:
        """Raises TargetError for a name that no target has."""
        return find_target(self.data.get("target") or FIRST_TARGET)

    def when_present(self) -> WhenPresent:
        self.is_valid()
        return WhenPresent(self.cleaned_data.get("when") or WhenPresent.SKIP)
