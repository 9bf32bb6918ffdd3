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
_LIST_MORE = ("creator", "annotation", "info", "identifier", "image", "date", "license")
_TRACK_MORE = ("identifier", "annotation", "info", "image", "trackNum")
"""What the format holds beside what every list does, as texts."""
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
        scheme = urlsplit(written).scheme
        # An address of another kind stays as it is; a bare place is one of a file, its signs written as addresses have them.
        place = written if len(scheme) > 1 else unquote(written)
        length = texts.get("duration", "")
        entries.append(
            ListEntry(
                path=located(place, folder), written=place, title=texts.get("title", ""),
                performer=texts.get("creator", ""), album=texts.get("album", ""),
                more=tuple((name, texts[name]) for name in _TRACK_MORE if texts.get(name)),
                seconds=int(length) / 1000 if length.isascii() and length.isdigit() and len(length) < 12 else None,
            )
        )  # fmt: skip
    title = next(((child.text or "").strip() for child in root if _name(child.tag) == "title"), "")
    heads = {_name(child.tag): (child.text or "").strip() for child in root}
    more = tuple((name, heads[name]) for name in _LIST_MORE if heads.get(name))
    return TrackList(entries=tuple(entries), title=title, more=more)


def _name(tag: str) -> str:
    return tag.rpartition("}")[2]


def _element(name: str, text: str, indent: str) -> str:
    return f"{indent}<{name}>{escape(_UNWRITABLE.sub('', text))}</{name}>"


def _address(entry: ListEntry, place: str) -> str:
    if entry.is_elsewhere and "://" in place:
        return place
    address = quote(place.encode("utf-8", "surrogateescape"), safe="/")
    return f"file://{address}" if place.startswith("/") and not entry.is_elsewhere else address


def write_xspf(tracks: TrackList, places: list[str]) -> str:
    lines = ['<?xml version="1.0" encoding="UTF-8"?>', f'<playlist version="1" xmlns="{_SPACE}">']
    if tracks.title:
        lines.append(_element("title", tracks.title, "  "))
    lines += [_element(name, text, "  ") for name, text in tracks.more if name in _LIST_MORE]
    lines.append("  <trackList>")
    for entry, place in zip(tracks.entries, places, strict=True):
        lines += ["    <track>", _element("location", _address(entry, place), "      ")]
        for name, text in (("title", entry.title), ("creator", entry.performer), ("album", entry.album)):
            if text:
                lines.append(_element(name, text, "      "))
        lines += [_element(name, text, "      ") for name, text in entry.more if name in _TRACK_MORE]
        if entry.seconds is not None:
            lines.append(_element("duration", str(round(entry.seconds * 1000)), "      "))
        lines.append("    </track>")
    lines += ["  </trackList>", "</playlist>"]
    return "\n".join(lines) + "\n"
