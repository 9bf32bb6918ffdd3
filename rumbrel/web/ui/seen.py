"""What a page showed, as a mark that it sends with its act: where things are otherwise by then, the act is not done."""

import hashlib

from django.http import HttpRequest

from rumbrel.core.errors import RumbrelError

from .words import counted

__all__ = ["SEEN", "SeenError", "changed_since_shown", "mark_of", "refuse_unseen"]

SEEN = "seen"
"""The name of the field with the mark."""


class SeenError(RumbrelError):
    """What the page showed is no longer so."""


def refuse_unseen(request: HttpRequest, now: str, *, what: str, thing: str = "") -> None:
    """Raises SeenError where the request comes from a page that showed something else than what there is now. An act
    that is asked for without a page (a command's, a test's) sends no mark."""
    sent = request.POST.get(SEEN)
    if sent is not None and (told := changed_since_shown(sent, now, what=what, thing=thing)):
        raise SeenError(told)


def mark_of(count: int, *shown: object) -> str:
    """A mark of what was shown, with how many things that were."""
    digest = hashlib.sha256(repr(shown).encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return f"{count}-{digest}"


def changed_since_shown(sent: str, now: str, *, what: str, thing: str = "") -> str:
    """What to say where the mark that a page sent is not the one it would have now: how many there were and are; "" where
    it is. what is the word for one of them, thing what they are together."""
    if sent == now:
        return ""
    before, _, _ = sent.partition("-")
    after = int(now.partition("-")[0])
    if before.isascii() and before.isdecimal() and int(before) != after:
        change = (
            f"the page showed {counted(int(before), what)}, and now there {'is' if after == 1 else 'are'} {after:,}"
        )
    else:
        change = f"{thing or what + 's'} changed after the page was opened"
    return f"Nothing was done: {change}. Check what the page shows now, then press again."
