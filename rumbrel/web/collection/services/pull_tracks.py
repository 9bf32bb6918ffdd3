"""The pull list: pull, take off, pull all that is found, clear, put back."""

from collections.abc import Sequence

from django.core.exceptions import EmptyResultSet
from django.db import connection, transaction
from django.db.models import Count, F, Max, Min, Sum
from django.utils import timezone

from ..models import Pull, PullList, Track
from ..queries import find_tracks, pull_list_of, without_wholes
from ..sentence import Sentence

__all__ = [
    "clear_pulls",
    "pull_found",
    "pull_tracks",
    "recount_pulls",
    "restore_pulls",
    "take_off_tracks",
    "toggle_pull",
]

_IDS_A_QUERY = 900
"""SQLite limits the variables of a query."""

MOST_LENGTHS = 160
"""More lengths than these cannot be told apart on the strip: neighbours are drawn as one."""


def toggle_pull(*, track: Track) -> bool:
    """Pull a track or take it off; True when it is on the list afterwards."""
    with transaction.atomic():
        pull_list = pull_list_of()
        there = pull_list.pulls.filter(track=track, cleared_at=None)
        pulled = not there.delete()[0]
        if pulled:
            pull_list.pulls.create(track=track)
        recount_pulls(pull_list)
    return pulled


def pull_found(*, sentence: Sentence) -> int:
    """Pull every track the sentence finds, in its order, but no whole file of which parts are found too; returns how many
    were added."""
    with transaction.atomic():
        pull_list = pull_list_of()
        before = pull_list.count
        pulled = Pull.objects.filter(pull_list=pull_list, cleared_at=None).values("track_id")
        wanted = without_wholes(find_tracks(sentence)).exclude(pk__in=pulled).values("id")
        try:
            sql, params = wanted.query.sql_with_params()
        except EmptyResultSet:
            # No track can be like that.
            return 0
        with connection.cursor() as cursor:
            cursor.execute(
                f"INSERT INTO {Pull._meta.db_table} (pull_list_id, track_id, cleared_at) "
                f"SELECT %s, id, NULL FROM ({sql})",
                [pull_list.pk, *params],
            )
        recount_pulls(pull_list)
    return pull_list.count - before


def pull_tracks(*, ids: Sequence[int]) -> int:
    """Pull tracks in this order; returns how many were added."""
    with transaction.atomic():
        pull_list = pull_list_of()
        there = set(pull_list.pulls.filter(cleared_at=None).values_list("track_id", flat=True))
        new = [pk for pk in dict.fromkeys(ids) if pk not in there]
        pull_list.pulls.bulk_create((Pull(pull_list=pull_list, track_id=pk) for pk in new), batch_size=1_000)
        recount_pulls(pull_list)
    return len(new)


def take_off_tracks(*, ids: Sequence[int]) -> int:
    """Take tracks off; they can be put back until the next time. Returns how many there were."""
    wanted = set(ids)
    with transaction.atomic():
        pull_list = pull_list_of()
        pulls = pull_list.pulls.filter(cleared_at=None).values_list("pk", "track_id")
        off = [pk for pk, track in pulls if track in wanted]
        if off:
            _forget_taken_off(pull_list)
            now = timezone.now()
            for start in range(0, len(off), _IDS_A_QUERY):
                pull_list.pulls.filter(pk__in=off[start : start + _IDS_A_QUERY]).update(cleared_at=now)
            recount_pulls(pull_list)
    return len(off)


def clear_pulls() -> int:
    """Take all tracks off; they can be put back until the next time. Returns how many there were."""
    with transaction.atomic():
        pull_list = pull_list_of()
        count = pull_list.pulls.filter(cleared_at=None).count()
        if count:
            _forget_taken_off(pull_list)
            pull_list.pulls.update(cleared_at=timezone.now())
            recount_pulls(pull_list)
    return count


def _forget_taken_off(pull_list: PullList) -> None:
    """Called only when something else goes: until then what was taken off before can be put back."""
    pull_list.pulls.exclude(cleared_at=None).delete()


def restore_pulls() -> int:
    """Put back what was cleared last, save what has been pulled again since."""
    with transaction.atomic():
        pull_list = pull_list_of()
        there = pull_list.pulls.filter(cleared_at=None).values("track_id")
        back = pull_list.pulls.exclude(cleared_at=None).exclude(track_id__in=there)
        restored = back.update(cleared_at=None)
        recount_pulls(pull_list)
    return restored


def recount_pulls(pull_list: PullList) -> None:
    """Bring count, sums and strip into line: at most MOST_LENGTHS lengths, however long the list."""
    pulls = pull_list.pulls.filter(cleared_at=None)
    sums = pulls.aggregate(
        count=Count("pk"), seconds=Sum("track__seconds"), size=Sum("track__size_bytes"), low=Min("pk"), high=Max("pk")
    )
    pull_list.count, pull_list.seconds = sums["count"], sums["seconds"] or 0.0
    pull_list.size_bytes, pull_list.version = sums["size"] or 0, pull_list.version + 1
    pull_list.strip = []
    if sums["count"]:
        each = max(1, -(-(sums["high"] - sums["low"] + 1) // MOST_LENGTHS)) if sums["count"] > MOST_LENGTHS else 1
        groups = (
            pulls.annotate(part=(F("pk") - sums["low"]) / each)
            .order_by("part")
            .values_list("part")
            .annotate(n=Count("pk"), s=Sum("track__seconds"), title=Min("track__title"))
        )
        pull_list.strip = [[round(s, 1), n, title[:80] if n == 1 else ""] for _, n, s, title in groups]
    pull_list.save()
