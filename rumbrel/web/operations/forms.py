"""The schedule of backups."""

from django import forms

__all__ = ["BackupPlanForm"]


class BackupPlanForm(forms.Form):
    every_days = forms.TypedChoiceField(
        coerce=int, label="Back up",
        choices=[(0, "only when asked"), (1, "every day"), (7, "every 7 days"), (30, "every 30 days")],
    )  # fmt: skip
    folder = forms.CharField(
        required=False, max_length=4096, strip=True, label="Folder",
        widget=forms.TextInput(attrs={"class": "field", "spellcheck": "false"}),
    )  # fmt: skip
    keep = forms.IntegerField(
        min_value=1, max_value=365, label="Keep", widget=forms.NumberInput(attrs={"class": "field max-w-24"})
    )
    with_files = forms.BooleanField(required=False, label="With results and images")
