"""Forms of the bench: which disc goes into which drive, and what is taken in of it."""

from typing import Any

from django import forms

from rumbrel.core.targets import all_targets

from .services import ShelfDisc

__all__ = ["ImageForm", "NamesForm", "PutInForm", "TakeInForm"]

_NONE = [("", "nothing else")]


class PutInForm(forms.Form):
    disc = forms.ChoiceField(label="Disc", widget=forms.Select(attrs={"class": "field"}))

    def __init__(self, *args: Any, shelf: list[ShelfDisc], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["disc"].choices = [(disc.key, disc.label) for disc in shelf]  # type: ignore[attr-defined]


class _SeveralFiles(forms.FileField):
    """One file or several."""

    widget = forms.FileInput

    def clean(self, data: Any, initial: Any = None) -> list[Any]:
        single = super().clean
        return [single(each, initial) for each in data] if isinstance(data, list) and data else [single(data, initial)]


class ImageForm(forms.Form):
    """An image of the user's own."""

    files = _SeveralFiles(error_messages={"required": "Choose the files of an image first."})


class TakeInForm(forms.Form):
    """The sentence: what the tracks become, whose names they get, and when it begins."""

    first = forms.ChoiceField(label="Target")
    second = forms.ChoiceField(required=False, label="Second target")
    third = forms.ChoiceField(required=False, label="Third target")
    names = forms.ChoiceField(required=False, label="Names from")
    begins = forms.ChoiceField(
        required=False,
        label="Beginning",
        choices=[("", "when it is asked for"), ("once", "as soon as a disc is put in")],
    )

    def __init__(self, *args: Any, sources: list[str], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        targets = [(target.slug, target.name) for target in all_targets()]
        self.fields["first"].choices = targets  # type: ignore[attr-defined]
        self.fields["second"].choices = self.fields["third"].choices = [*_NONE, *targets]  # type: ignore[attr-defined]
        self.fields["names"].choices = [(source, source) for source in sources]  # type: ignore[attr-defined]


class NamesForm(forms.Form):
    """The disc's and its tracks' names as they were typed, and the tracks that are wanted."""

    title = forms.CharField(required=False, max_length=200)
    performer = forms.CharField(required=False, max_length=200)

    def __init__(self, *args: Any, numbers: list[int], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._numbers = numbers
        for number in numbers:
            self.fields[f"title-{number}"] = forms.CharField(required=False, max_length=500)
            self.fields[f"performer-{number}"] = forms.CharField(required=False, max_length=500)
            self.fields[f"take-{number}"] = forms.BooleanField(required=False)

    def names(self) -> dict[str, Any]:
        """As they are kept for the disc."""
        chosen = self.cleaned_data
        tracks = [
            {"title": chosen[f"title-{n}"] or f"Track {n:02d}", "performer": chosen[f"performer-{n}"]}
            for n in self._numbers
        ]
        return {"title": chosen["title"] or "Disc", "performer": chosen["performer"], "tracks": tracks}

    def wanted(self) -> list[int]:
        return [number for number in self._numbers if self.cleaned_data[f"take-{number}"]]
