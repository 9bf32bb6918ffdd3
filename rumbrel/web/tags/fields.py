"""Fields of forms that have to do with tags."""

from typing import Any

from django import forms

from rumbrel.core.errors import TagError
from rumbrel.core.tags import Cover, cover_of
from rumbrel.core.tags.rules import LARGEST_COVER_BYTES

__all__ = ["CoverField"]


class CoverField(forms.FileField):
    """A picture that may be left out: what comes of it is a Cover, or None."""

    def __init__(self, *, label: str) -> None:
        super().__init__(required=False, max_length=400, label=label)

    def clean(self, data: Any, initial: Any = None) -> Cover | None:
        file = super().clean(data, initial)
        if not file:
            return None
        try:
            # One byte more than is allowed tells as much as all of a very large file.
            return cover_of(file.read(LARGEST_COVER_BYTES + 1))
        except TagError as error:
            raise forms.ValidationError(str(error)) from error
