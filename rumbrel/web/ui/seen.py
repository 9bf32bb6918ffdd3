"""What a page showed, as a mark that it sends with its act: where things are otherwise by then, the act is not done."""

import hashlib

from .words import counted

__all__ = ["changed_since_shown", "mark_of"]


def mark_of(count: int, *shown: object) -> str:
    """A mark of what was shown, with how many things that were."""
    digest = hashlib.sha256(repr(shown).encode("utf-8", "surrogateescape")).hexdigest()[:24]
    return f"{count}-{digest}"


def changed_since_shown(sent: str, now: str, *, what: str) -> str:
    """What to say where the mark that a page sent is not the one it would have now: how many there were and are; "" where
    it is. what is the word for one of them."""
    if sent == now:
        return ""
    before, _, _ = sent.partition("-")
    after = int(now.partition("-")[0])
    if before.isascii() and before.isdecimal() and int(before) != after:
        change = (
            f"the page showed {counted(int(before), what)}, and now there {'is' if after == 1 else 'are'} {after:,}"
        )
    else:
        change = f"{what}s changed after the page was opened"
    return f"Nothing was done: {change}. Check what the page shows now, then press again."
