"""The disc's sentence."""

from typing import Any

from django import forms

from rumbrel.core.disc.media import MEDIA, medium_for

from .models import Disc

__all__ = ["GAP_CHOICES", "DiscForm"]

GAP_CHOICES = (0, 1, 2, 3, 4, 5)


class DiscForm(forms.Form):
    """A choice that cannot be leaves what was there; a speed above the medium's becomes its highest."""

    medium = forms.ChoiceField(required=False, label="Medium", choices=[(m.key, m.label) for m in MEDIA])
    gap = forms.TypedChoiceField(
        required=False, coerce=int, label="Gap", choices=[(gap, f"{gap} s") for gap in GAP_CHOICES], empty_value=None
    )
    speed = forms.TypedChoiceField(required=False, coerce=int, label="Speed", empty_value=None)

    def __init__(self, *args: Any, disc: Disc, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._disc = disc
        chosen = self.data.get("medium") if self.is_bound else disc.medium_key
        medium = medium_for(str(chosen) if chosen in {m.key for m in MEDIA} else disc.medium_key)
        self.fields["speed"].choices = [(speed, f"{speed}x") for speed in medium.speeds]

    @classmethod
    def of(cls, disc: Disc) -> "DiscForm":
        """The sentence as the disc is."""
        return cls(initial={"medium": disc.medium_key, "gap": disc.gap_seconds, "speed": disc.speed}, disc=disc)

    def wishes(self) -> dict[str, Any]:
        """medium_key, gap_seconds and speed."""
        self.is_valid()
        chosen = self.cleaned_data
        medium = medium_for(chosen.get("medium") or self._disc.medium_key)
        gap, speed = chosen.get("gap"), chosen.get("speed") or min(self._disc.speed, max(medium.speeds))
        return {
            "medium_key": medium.key,
            "gap_seconds": self._disc.gap_seconds if gap is None else gap,
            "speed": speed,
        }
