"""XSPF version 1, the open XML format of playlists (xspf.org, from memory)."""

import re
from pathlib import Path
from urllib.parse import quote, unquote, urlsplit
from xml.sax.saxutils import escape

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import ParseError, fromstring

from rumbrel.core.errors import PlaylistError

from .locating import located
from .model import ListEntry, TrackList

__all__ = ["read_xspf", "write_xspf"]

_SPACE = "http://xspf.org/ns/0/"
# XML 1.0 has no way to write these.
_UNWRITABLE = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def read_xspf(raw: bytes, folder: Path) -> TrackList:
    """Raises PlaylistError for what is no XSPF, and for documents that define entities."""
    try:
        root = fromstring(raw, forbid_dtd=True)
    except (ParseError, DefusedXmlException, ValueError, LookupError) as error:
        raise PlaylistError(f"The list is not an XSPF that can be read ({type(error).__name__}).") from error
    if _name(root.tag) != "playlist":
        raise PlaylistError("The list is XML, but no XSPF playlist.")
    entries = []
    for track in root.iter():
        if _name(track.tag) != "track":
            continue
        texts = {_name(child.tag): (child.text or "").strip() for child in track}
        written = texts.get("location", "")
        if not written:
            continue
        place = written if urlsplit(written).scheme == "file" else unquote(written)
        length = texts.get("duration", "")
        entries.append(
            ListEntry(
                path=located(place, folder), written=place, title=texts.get("title", ""),
                performer=texts.get("creator", ""), album=texts.get("album", ""),
                seconds=int(length) / 1000 if length.isascii() and length.isdigit() and len(length) < 12 else None,
            )
        )  # fmt: skip
    title = next(((child.text or "").strip() for child in root if _name(child.tag) == "title"), "")
    return TrackList(entries=tuple(entries), title=title)


def _name(tag: str) -> str:
    return tag.rpartition("}")[2]


def _element(name: str, text: str, indent: str) -> str:
    return f"{indent}<{name}>{escape(_UNWRITABLE.sub('', text))}</{name}>"


def write_xspf(tracks: TrackList, places: list[str]) -> str:
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', f'<playlist version="1" xmlns="{_SPACE}">']
    if tracks.title:
        lines.append(_element("title", tracks.title, "  "))
    lines.append("  <trackList>")
    for entry, place in zip(tracks.entries, places, strict=True):
        address = quote(place.encode("utf-8", "surrogateescape"), safe="/")
        lines += [
            "    <track>",
            _element("location", f"file://{address}" if place.startswith("/") else address, "      "),
        ]
        for name, text in (("title", entry.title), ("creator", entry.performer), ("album", entry.album)):
            if text:
                lines.append(_element(name, text, "      "))
        if entry.seconds is not None:
            lines.append(_element("duration", str(round(entry.seconds * 1000)), "      "))
        lines.append("    </track>")
    lines += ["  </trackList>", "</playlist>"]
    return "\n".join(lines) + "\n"
