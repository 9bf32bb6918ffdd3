"""What single tracks of the pull list are to have otherwise than their batch."""

import hashlib
from collections.abc import Sequence

from django.conf import settings
from django.db import transaction

from rumbrel.core.errors import TargetError
from rumbrel.core.files import output_errors, write_whole
from rumbrel.core.tags import Cover
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import listed_target
from rumbrel.web.ui.asking import who_asks

from ..models import Batch, TrackChoice
from ..wishes import Choice

__all__ = ["choices_of", "choose", "forget_choices", "leave_out_lines", "sweep_covers"]

_IDS_A_QUERY = 500
_FIELD_NAMES = frozenset(row.name for row in FIELDS)
_LONGEST_VALUE = 10_000


def choices_of(ids: Sequence[int]) -> tuple[Choice, ...]:
    """Those of some tracks, in their order."""
    rows = {row.track_id: row for row in TrackChoice.objects.filter(owner=who_asks())}
    return tuple(_value(rows[pk]) for pk in ids if pk in rows)


def _value(row: TrackChoice) -> Choice:
    fields = tuple((name, value) for name, value in row.fields)
    return Choice(
        track_id=row.track_id, left_out=row.left_out, not_for=tuple(row.not_for), target_slug=row.target_slug,
        name=row.name, fields=fields, bare=row.bare, cover=row.cover,
    )  # fmt: skip


def choose(
    *,
    ids: Sequence[int],
    left_out: bool | None = None,
    not_for: Sequence[str] | None = None,
    target_slug: str | None = None,
    name: str | None = None,
    fields: Sequence[tuple[str, str]] | None = None,
    bare: bool | None = None,
    cover: Cover | None = None,
) -> int:
    """Keep what is not None for each track. Returns for how many. Raises TargetError for an unknown target or tag."""
    if target_slug:
        listed_target(target_slug)
    for field, value in fields or ():
        if field not in _FIELD_NAMES or len(value) > _LONGEST_VALUE:
            raise TargetError(f"There is no tag '{field[:40]}', or its text is too long.")
    values = {
        "left_out": left_out,
        "not_for": None if not_for is None else sorted(not_for),
        "target_slug": target_slug,
        "name": None if name is None else name.strip()[:500],
        "fields": None if fields is None else [list(pair) for pair in fields],
        "bare": bare,
        "cover": None if cover is None else _kept_cover(cover),
    }
    asked = {key: value for key, value in values.items() if value is not None}
    with transaction.atomic():
        for start in range(0, len(ids), _IDS_A_QUERY):
            rows = [TrackChoice(owner=who_asks(), track_id=pk, **asked) for pk in ids[start : start + _IDS_A_QUERY]]
            TrackChoice.objects.bulk_create(
                rows, update_conflicts=True, unique_fields=("owner", "track"), update_fields=list(asked)
            )
        # Whoever is as all others has no choice any more.
        TrackChoice.objects.filter(
            owner=who_asks(), left_out=False, not_for=[], target_slug="", name="", fields=[], bare=False, cover=""
        ).delete()
    return len(ids)


def leave_out_lines(lines: Sequence[tuple[int, str]], *, slugs: Sequence[str]) -> None:
    """Leave tracks out of single targets of a batch, slugs; out of the batch where no target is left. A line without a
    slug is the whole track."""
    asked: dict[int, set[str]] = {}
    for pk, slug in lines:
        asked.setdefault(pk, set()).update([slug] if slug else slugs)
    for choice in choices_of(list(asked)):
        asked[choice.track_id] |= set(choice.not_for)
    groups: dict[frozenset[str], list[int]] = {}
    for pk, out in asked.items():
        groups.setdefault(frozenset(out), []).append(pk)
    with transaction.atomic():
        for left, pks in groups.items():
            if left.issuperset(slugs):
                choose(ids=pks, left_out=True, not_for=())
            else:
                choose(ids=pks, not_for=sorted(left))


def _kept_cover(cover: Cover) -> str:
    """The file of a picture; "" for none. The same picture is kept once."""
    if not cover.data:
        return ""
    path = settings.RUMBREL.covers / hashlib.sha256(cover.data).hexdigest()
    if not path.exists():
        with output_errors(path.parent):
            path.parent.mkdir(parents=True, exist_ok=True)
            write_whole(path, cover.data)
    return str(path)


def forget_choices() -> int:
    """Every track is as its batch again. Returns how many were not."""
    return TrackChoice.objects.filter(owner=who_asks()).delete()[0]


def sweep_covers() -> int:
    """Remove pictures that no choice names any more, neither of a track nor of a batch; returns how many."""
    used = set(TrackChoice.objects.exclude(cover="").values_list("cover", flat=True))
    for options in Batch.objects.values_list("options", flat=True).iterator():
        used |= {choice["cover"] for choice in options.get("choices", ()) if choice.get("cover")}
    gone = [path for path in settings.RUMBREL.covers.glob("*") if str(path) not in used]
    for path in gone:
        path.unlink(missing_ok=True)
    return len(gone)
