"""Only the user removes: tracks whose files are gone leave the collection when he says so."""

from collections.abc import Sequence

from django.db import transaction

from rumbrel.web.ui.removal import holders_of

from ..models import PullList, SourceFolder, Track
from .pull_tracks import recount_pulls
from .recount import recount_folder

__all__ = ["missing_ids", "remove_missing", "remove_tracks"]

_ROWS_A_TURN = 500


def missing_ids(*, folder: SourceFolder) -> list[int]:
    return list(folder.tracks.exclude(missing_since=None).values_list("pk", flat=True))


def remove_missing(*, folder: SourceFolder) -> int:
    """Take the missing tracks of a folder out of the collection and of everything that holds them.

    Returns how many went.
    """
    with transaction.atomic():
        removed = remove_tracks(missing_ids(folder=folder))
        recount_folder(folder=folder)
    return removed


def remove_tracks(going: Sequence[int]) -> int:
    """Take tracks out of everything that holds them; the caller owns the transaction, and recounts their folders."""
    after = [holder.settle(going) for holder in holders_of("track")]
    for start in range(0, len(going), _ROWS_A_TURN):
        Track.objects.filter(pk__in=going[start : start + _ROWS_A_TURN]).delete()
    for settle in after:
        settle()
    for pull_list in PullList.objects.all():
        recount_pulls(pull_list)
    return len(going)
