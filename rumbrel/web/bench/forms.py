"""Forms of the bench: discs into drives and what is taken in of them, volumes and what is delivered to them."""

from typing import Any

from django import forms

from rumbrel.core.bench.blanks import SHELF
from rumbrel.core.bench.volumes import FORMATS
from rumbrel.core.places.file_systems import file_system_for
from rumbrel.core.targets import all_targets

from .services import PATTERNS, ShelfDisc

__all__ = [
    "BlankForm",
    "ChooseForm",
    "DeliverForm",
    "FormatForm",
    "ImageForm",
    "LeaveOutForm",
    "NamesForm",
    "PutInForm",
    "RealVolumeForm",
    "TakeInForm",
    "VolumeForm",
]

_NONE = [("", "nothing else")]


class PutInForm(forms.Form):
    disc = forms.ChoiceField(label="Disc", widget=forms.Select(attrs={"class": "field"}))

    def __init__(self, *args: Any, shelf: list[ShelfDisc], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["disc"].choices = [(disc.key, disc.label) for disc in shelf]  # type: ignore[attr-defined]


class BlankForm(forms.Form):
    """A blank for a recorder's tray."""

    disc = forms.ChoiceField(choices=[(blank.key, blank.label) for blank in SHELF])


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
    hidden = forms.ChoiceField(
        required=False, label="Sound before track 1", choices=[("", "left out"), ("on", "as a separate track")]
    )
    emphasis = forms.ChoiceField(
        required=False, label="Pre-emphasis", choices=[("", "kept with its flag"), ("on", "taken out of the sound")]
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


def _targets() -> list[tuple[str, str]]:
    return [(target.slug, target.name) for target in all_targets()]


class VolumeForm(forms.Form):
    """What a volume is called, and the player it is for."""

    name = forms.CharField(max_length=120, label="Name", widget=forms.TextInput(attrs={"class": "field"}))
    target = forms.ChoiceField(label="Player")

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["target"].choices = _targets()  # type: ignore[attr-defined]


class RealVolumeForm(VolumeForm):
    """A folder where a stick or card is mounted."""

    name = forms.CharField(
        required=False, max_length=120, label="Called", widget=forms.TextInput(attrs={"class": "field"})
    )
    path = forms.CharField(
        max_length=4096, label="Folder", widget=forms.TextInput(attrs={"class": "field", "spellcheck": "false"})
    )


_NAME_WORDS = {"": "as the target says", "numbered": "numbered, in one folder", "albums": "by album and track"}


class DeliverForm(forms.Form):
    """The sentence: what is delivered, under which names, and what becomes of the rest."""

    what = forms.ChoiceField(label="What")
    names = forms.ChoiceField(required=False, label="Names", choices=[(key, _NAME_WORDS[key]) for key in PATTERNS])
    rest = forms.ChoiceField(
        required=False,
        label="Other sound on it",
        choices=[
            ("", "stays"),
            ("earlier", "stays, except what earlier deliveries left"),
            ("mirror", "is removed after confirmation"),
        ],
    )
    digests = forms.ChoiceField(
        required=False, label="Digest list", choices=[("", "no digest list"), ("on", "a digest list on the volume")]
    )

    def __init__(self, *args: Any, sources: list[tuple[str, str]], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["what"].choices = sources  # type: ignore[attr-defined]


class ChooseForm(forms.Form):
    """What becomes of files of earlier deliveries, and of lossless originals that the collection does not have."""

    earlier = forms.ChoiceField(required=False, choices=[("", ""), ("tidy", ""), ("leave", "")])
    originals = forms.ChoiceField(required=False, choices=[("", ""), ("aside", ""), ("remove", "")])


class LeaveOutForm(forms.Form):
    """The lines to leave out of a delivery."""

    number = forms.TypedMultipleChoiceField(coerce=int, required=False)
    offer = forms.CharField(required=False, max_length=20)

    def __init__(self, *args: Any, numbers: list[int], **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.fields["number"].choices = [(n, n) for n in numbers]  # type: ignore[attr-defined]


class FormatForm(forms.Form):
    """A stand-in formatted anew; lost is the mark of the list that was shown."""

    name = forms.CharField(
        required=False, max_length=120, label="Called", widget=forms.TextInput(attrs={"class": "field"})
    )
    file_system = forms.ChoiceField(label="File system", choices=[(key, file_system_for(key).label) for key in FORMATS])
    lost = forms.CharField(max_length=64, widget=forms.HiddenInput)
