"""Who signed in, who failed to, who is locked out, and what administrators did: kept for a while, then forgotten."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from axes.models import AccessAttempt, AccessFailureLog, AccessLog
from axes.utils import reset
from django.conf import settings
from django.utils import timezone

from ..models import AdministrativeAct

__all__ = ["DAYS_KEPT", "Lock", "SignInRecord", "forget_old_records", "lift_lock", "locks", "note_act", "sign_ins"]

DAYS_KEPT = 90
_MOST_SHOWN = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class SignInRecord:
    """An attempt to sign in. result is "signed in", "wrong password" or "locked out"."""

    name: str
    ip_address: str
    at: datetime
    result: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Lock:
    """A name that cannot sign in from an address until then."""

    pk: int
    name: str
    ip_address: str
    until: datetime


def note_act(*, owner: str, view: str, address: str) -> None:
    AdministrativeAct.objects.create(owner=owner[:60], view=view[:80], address=address[:400])


def sign_ins() -> list[SignInRecord]:
    """The last ones, the latest first."""
    found = [
        SignInRecord(name=row.username or "–", ip_address=row.ip_address or "–", at=row.attempt_time, result="signed in")
        for row in AccessLog.objects.order_by("-pk")[:_MOST_SHOWN]
    ] + [
        SignInRecord(
            name=row.username or "–", ip_address=row.ip_address or "–", at=row.attempt_time,
            result="locked out" if row.locked_out else "wrong password",
        )
        for row in AccessFailureLog.objects.order_by("-pk")[:_MOST_SHOWN]
    ]  # fmt: skip
    return sorted(found, key=lambda record: record.at, reverse=True)[:_MOST_SHOWN]


def locks() -> list[Lock]:
    since = timezone.now() - settings.AXES_COOLOFF_TIME
    rows = AccessAttempt.objects.filter(failures_since_start__gte=settings.AXES_FAILURE_LIMIT, attempt_time__gte=since)
    return [
        Lock(pk=row.pk, name=row.username or "–", ip_address=row.ip_address or "–",
             until=row.attempt_time + settings.AXES_COOLOFF_TIME)
        for row in rows
    ]  # fmt: skip


def lift_lock(*, pk: int) -> str:
    """Let a name try again from its address. Returns the name, "" where it is not locked."""
    row = AccessAttempt.objects.filter(pk=pk).first()
    if row is None:
        return ""
    reset(username=row.username, ip=row.ip_address)
    return row.username or ""


def forget_old_records() -> int:
    """Records older than DAYS_KEPT; returns how many went."""
    before = timezone.now() - timedelta(days=DAYS_KEPT)
    gone = sum(model.objects.filter(attempt_time__lt=before).delete()[0] for model in (AccessLog, AccessFailureLog))
    return gone + int(AdministrativeAct.objects.filter(at__lt=before).delete()[0])
