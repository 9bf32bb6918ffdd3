"""Forms of playlists."""

from django import forms

__all__ = ["MakeForm", "MoveForm", "OrderForm"]


class MakeForm(forms.Form):
    name = forms.CharField(required=False, max_length=200, label="Make a list of the pulled tracks, named")


class MoveForm(forms.Form):
    way = forms.ChoiceField(choices=[("up", "up"), ("down", "down")])


class OrderForm(forms.Form):
    """The entries of one page in their new order."""

    def __init__(self, values: list[str]) -> None:
        super().__init__({})
        self._values = values

    def order(self) -> list[int]:
        """Ids as far as they are numbers."""
        return [int(text) for text in self._values if text.isascii() and text.isdecimal() and len(text) < 19]
