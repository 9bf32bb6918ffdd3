"""What a page showed, as a mark that it sends with its act: where things are otherwise by then, the act is not done."""

import hashlib

from .words import counted

__all__ = ["changed_since_shown", "mark_of"]


def mark_of(count: int, *shown: object) -> str:
    """A mark of what was shown, with how many things that were."""
    digest = hashlib.sha256(repr(shown).encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return f"{count}-{digest}"


def changed_since_shown(sent: str, now: str, *, what: str) -> str:
    """What to say where a mark that was sent is not what it would be now: how many there were and are; "" where it is.
    what is the word for one of them."""
    if sent == now:
        return ""
    before, _, _ = sent.partition("-")
    after = int(now.partition("-")[0])
    if before.isascii() and before.isdecimal() and int(before) != after:
        change = f"it was {counted(int(before), what)}, now there {'is' if after == 1 else 'are'} {after:,}"
    else:
        change = f"the {counted(after, what)} are not as they were then"
    return f"Nothing was done: what this page showed has changed since; {change}. Look at it as it is now, then press again."
