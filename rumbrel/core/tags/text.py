"""Bytes of tags as text."""

__all__ = ["decoded_text"]


def decoded_text(raw: bytes) -> str:
    """UTF-8 or, where it is none, Latin 1."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")
