"""How the text of a list or sheet is encoded, where it does not say so itself."""

__all__ = ["decoded_text", "western_text"]


def decoded_text(raw: bytes) -> str:
    """By its mark, as UTF-8 where it is that, else as Windows' Western code page, which older lists are in. UTF-16 is
    known without a mark too, by the zeros in it."""
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return raw.decode("utf-16", "replace")
    for width, name in ((raw[1:200:2], "utf-16-le"), (raw[:200:2], "utf-16-be")):
        # Half of the bytes of plain words are zero there, and none elsewhere.
        if len(width) > 3 and width.count(0) > 0.9 * len(width):
            return raw.decode(name, "replace")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")


def western_text(text: str) -> bytes | None:
    """In Windows' Western code page; None where that lacks a sign, or would be read as UTF-8 of another text.

    Better a list that newer players read than one that nobody does.
    """
    try:
        raw = text.encode("cp1252")
    except UnicodeEncodeError:
        return None
    return raw if decoded_text(raw) == text else None
