"""What is kept for undoing edits goes with them."""

from django.conf import settings

from ..models import EditedFile, TagEdit

__all__ = ["sweep_undo"]


def sweep_undo() -> int:
    """Remove what was kept for edits and files that are no longer known; returns how many files."""
    known = {
        "edit": set(TagEdit.objects.values_list("pk", flat=True)),
        "file": set(EditedFile.objects.values_list("pk", flat=True)),
    }
    known["note"] = known["layout"] = known["file"]
    removed = 0
    for path in settings.RUMBREL.undo.glob("*-*.json"):
        kind, _, number = path.stem.partition("-")
        if kind in known and number.isdecimal() and int(number) not in known[kind]:
            path.unlink(missing_ok=True)
            removed += 1
    return removed
