"""Delete a list, with what is made of it: it can be put back for some days, then it goes for good."""

from datetime import timedelta

from django.db import transaction
from django.utils import timezone

from rumbrel.core.errors import PlaylistError
from rumbrel.web.ui.removal import holders_of

from ..models import Playlist

__all__ = ["DAYS_KEPT", "delete_playlist", "forget_lists", "restore_playlist", "said_of"]

DAYS_KEPT = 7


def delete_playlist(*, playlist: Playlist) -> str:
    """Put a list aside; returns what went with it, in words. Raises PlaylistError while it is in use."""
    with transaction.atomic():
        for holder in holders_of("playlist"):
            if reason := holder.refuses([playlist.pk]):
                raise PlaylistError(reason)
        Playlist.objects.filter(pk=playlist.pk).update(deleted_at=timezone.now())
    return said_of(playlist)


def said_of(playlist: Playlist) -> str:
    """What goes with a list, in words; "" for nothing."""
    return " ".join(text for holder in holders_of("playlist") if (text := holder.said([playlist.pk])))


def restore_playlist(*, playlist: Playlist) -> None:
    Playlist.all_lists.filter(pk=playlist.pk).update(deleted_at=None)


def forget_lists() -> int:
    """Remove for good what was deleted long enough ago; returns how many lists went."""
    before = timezone.now() - timedelta(days=DAYS_KEPT)
    with transaction.atomic():
        going = list(Playlist.all_lists.filter(deleted_at__lt=before).values_list("pk", flat=True))
        after = [holder.settle(going) for holder in holders_of("playlist")]
        Playlist.all_lists.filter(pk__in=going).delete()
        for settle in after:
            settle()
    return len(going)
