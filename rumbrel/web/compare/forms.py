"""What is compared, and what is said in a blind test."""

from typing import Any

from django import forms
from django.http import QueryDict

from rumbrel.core.workflows.compare import MOST_VOICES
from rumbrel.web.collection.models import Track

from .services.blind_test import TRIALS

__all__ = ["AnswerForm", "BlindForm", "CompareForm"]

LENGTHS_SECONDS = (10, 15, 20, 30)


class CompareForm(forms.Form):
    """A track, where in it, and up to six settings; setting can stand in it several times."""

    track = forms.ModelChoiceField(Track.objects.all())
    start = forms.FloatField(required=False, min_value=0, max_value=1e7)
    seconds = forms.TypedChoiceField(
        required=False, coerce=int, choices=[(each, f"{each} s") for each in LENGTHS_SECONDS], empty_value=15
    )

    def settings_chosen(self) -> list[str]:
        sent = self.data.getlist("setting") if isinstance(self.data, QueryDict) else []
        return [each[:200] for each in sent if each][: MOST_VOICES - 1]


class BlindForm(forms.Form):
    one = forms.TypedChoiceField(coerce=int, label="Which of two is")
    other = forms.TypedChoiceField(coerce=int, label="against")
    trials = forms.TypedChoiceField(coerce=int, choices=[(each, str(each)) for each in TRIALS], label="trials")
    tells = forms.ChoiceField(
        choices=[("each", "after each trial"), ("end", "at the end")], required=False, label="Answers shown"
    )

    def clean_tells(self) -> bool:
        return bool(self.cleaned_data["tells"] != "end")

    def __init__(self, data: Any, *, voices: list[tuple[int, str]], **more: Any) -> None:
        super().__init__(data, **more)
        self.fields["one"].choices = voices
        self.fields["other"].choices = voices


class AnswerForm(forms.Form):
    number = forms.IntegerField(min_value=1, max_value=1000)
    said = forms.ChoiceField(choices=[("first", "the first"), ("second", "the second")])
