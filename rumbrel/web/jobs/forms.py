"""What a page says of the jobs that it shows."""

from django.http import QueryDict

__all__ = ["WatchedForm"]

_MOST = 100


class WatchedForm:
    """The jobs that a page shows at work, as "3,4,5"; what is no number is passed over."""

    def __init__(self, values: QueryDict) -> None:
        self._text = values.get("watched", "")[:2_000]

    def ids(self) -> list[int]:
        words = self._text.split(",")[:_MOST]
        return [int(word) for word in words if word.isascii() and word.isdecimal() and len(word) < 19]
