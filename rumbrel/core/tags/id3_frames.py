"""ID3v2 frames to our fields and back (id3.org, from memory)."""

import re
from collections import defaultdict
from typing import Any

import mutagen.id3

from .fields import Fields, add, clean
from .mapping import FIELDS, row_for
from .model import Chapter, Cover, TagSet

__all__ = ["id3_frames", "read_id3"]

# A younger frame for groups is read as the older one.
_NAMES = {row.id3: row.name for row in FIELDS} | {"GRP1": "grouping"}
# Lists of people with what each did; version 2.3 has one list for both.
_PEOPLE = ("TIPL", "TMCL", "IPLS")
_CREDIT = re.compile(r"(?P<who>.+) \((?P<what>[^()]+)\)")
# Other names for what somebody did.
_ROLES = {"mix": "mixer", "dj-mix": "djmixer", "dj mix": "djmixer"}
# Made by programs for themselves, or stated anew by every writer.
_NOT_CARRIED_ON_PURPOSE = frozenset({"PRIV", "CHAP", "CTOC", "TSSE", "TLEN", "ENCR", "GRID", "SEEK", "ASPI"})


_UNKNOWN_LANGUAGE = "und"
_NO_LANGUAGE = frozenset({_UNKNOWN_LANGUAGE, "xxx", "\0\0\0", ""})


def read_id3(tags: mutagen.id3.ID3Tags) -> TagSet:
    """All that we carry, and the names of the frames that we do not."""
    fields: Fields = {}
    covers: list[Cover] = []
    left_out: list[str] = []
    languages: dict[str, str] = {}
    frame: Any
    for frame in tags.values():
        kind, holds_text = frame.FrameID, isinstance(frame, mutagen.id3.TextFrame)
        if kind == "APIC":
            covers.append(Cover(media_type=frame.mime, data=frame.data, kind=int(frame.type), description=frame.desc))
        elif kind == "TXXX":
            key = f"TXXX:{frame.desc.upper()}"
            add(fields, _NAMES.get(key, frame.desc), [clean(text) for text in frame.text])
        elif kind in ("COMM", "USLT"):
            texts = [clean(text) for text in (frame.text if kind == "COMM" else [frame.text])]
            name, language = _NAMES[kind], frame.lang.lower()
            if (frame.desc and kind == "COMM") or name in fields:
                if not all(_PRIVATE_NOTE.fullmatch(text) for text in texts):
                    add(fields, _described(name, clean(frame.desc), language), texts)
            else:
                add(fields, name, texts)
                if language not in _NO_LANGUAGE:
                    languages[name] = frame.lang
        elif kind == "TCON":
            add(fields, "genre", [clean(text) for text in frame.genres])
        elif kind in _PEOPLE:
            _add_people(fields, frame.people)
        elif kind.startswith("W"):
            add(fields, _NAMES.get(kind) or getattr(frame, "desc", "") or kind, [clean(frame.url)])
        elif holds_text:
            add(fields, _NAMES.get(kind, kind), [clean(text) for text in frame.text])
        elif kind != "RVA2" and kind not in _NOT_CARRIED_ON_PURPOSE:
            left_out.append(kind)
    _add_gains(fields, tags.getall("RVA2"))
    return TagSet(
        fields=fields, covers=tuple(covers), chapters=_chapters(tags), left_out=tuple(dict.fromkeys(left_out)),
        languages=languages,
    )  # fmt: skip


# What programs note for themselves in comments: groups of hexadecimal digits.
_PRIVATE_NOTE = re.compile(r"\s*([0-9A-Fa-f]{4,16}[ +:]*)+")
_DESCRIBED = re.compile(r"(?P<name>COMMENT|LYRICS)(/(?P<what>[^;]*))?(;(?P<language>[a-z]{3}))?")


def _described(name: str, what: str, language: str) -> str:
    """A further comment or text is a field of its own: COMMENT/description;language, which any format holds."""
    known = "" if language in _NO_LANGUAGE else f";{language}"
    what = what.replace(";", ",").replace("=", "-").replace(":", "-")
    return f"{name.upper()}{f'/{what}' if what else ''}{known}" if what or known else f"{name.upper()}/2"


def _described_frame(name: str, text: list[str]) -> Any:
    """The frame of such a field, or None."""
    found = _DESCRIBED.fullmatch(name)
    if found is None or not (found["what"] or found["language"]):
        return None
    language, what = found["language"] or _UNKNOWN_LANGUAGE, found["what"] or ""
    if found["name"] == "COMMENT":
        return mutagen.id3.COMM(encoding=3, lang=language, desc=what, text=text)
    return mutagen.id3.USLT(encoding=3, lang=language, desc=what, text="\n".join(text))


def _add_people(fields: Fields, people: list[list[str]]) -> None:
    for what, who in people:
        role = _ROLES.get(what.strip().lower(), what.strip().lower())
        name = _NAMES.get(f"TIPL:{role}") or ("arranger" if role == "arranger" else "")
        credit = clean(who) if name or not role else f"{clean(who)} ({clean(what)})"
        add(fields, name or "performer", [credit])


def _add_gains(fields: Fields, frames: list[Any]) -> None:
    """Gain of the whole (channel 1) under the names that tools agree on, where no field of text states it."""
    for frame in frames:
        kind = frame.desc.strip().lower()
        if kind in ("track", "album") and frame.channel == 1 and f"{kind}_gain" not in fields:
            fields[f"{kind}_gain"] = (f"{frame.gain:.2f} dB",)
            if frame.peak:
                fields.setdefault(f"{kind}_peak", (f"{frame.peak:.6f}",))


def _chapters(tags: mutagen.id3.ID3Tags) -> tuple[Chapter, ...]:
    found = []
    for frame in tags.getall("CHAP"):
        title = frame.sub_frames.get("TIT2")
        text = clean(title.text[0]) if title and title.text else ""
        found.append(Chapter(start_seconds=frame.start_time / 1000, end_seconds=frame.end_time / 1000, title=text))
    return tuple(sorted(found, key=lambda chapter: chapter.start_seconds))


def id3_frames(tags: TagSet) -> mutagen.id3.ID3:
    """Frames of version 2.4."""
    frames = mutagen.id3.ID3()
    people: dict[str, list[list[str]]] = defaultdict(list)
    for name, values in tags.fields.items():
        row = row_for(name)
        key = row.id3 if row else f"TXXX:{name}"
        text = list(values)
        if row is None and (described := _described_frame(name, text)) is not None:
            frames.add(described)
        elif key.startswith("TXXX:"):
            frames.add(mutagen.id3.TXXX(encoding=3, desc=key[5:], text=text))
        elif key == "COMM":
            frames.add(
                mutagen.id3.COMM(encoding=3, lang=tags.languages.get(name, _UNKNOWN_LANGUAGE), desc="", text=text)
            )
        elif key == "USLT":
            language = tags.languages.get(name, _UNKNOWN_LANGUAGE)
            frames.add(mutagen.id3.USLT(encoding=3, lang=language, desc="", text="\n".join(text)))
        elif key.startswith("TIPL:"):
            people["TIPL"] += [[key[5:], value] for value in values]
        elif key == "TMCL":
            people["TMCL"] += [_credit(value) for value in values]
        elif key.startswith("W"):
            for value in values:
                frames.add(mutagen.id3.Frames[key](url=value))
        else:
            frames.add(mutagen.id3.Frames[key](encoding=3, text=text))
    for key, pairs in people.items():
        frames.add(mutagen.id3.Frames[key](encoding=3, people=pairs))
    _add_covers(frames, tags.covers)
    _add_chapters(frames, tags.chapters)
    return frames


def _credit(value: str) -> list[str]:
    """What somebody did, and who it was: 'Name (instrument)' as comments of other formats say it."""
    found = _CREDIT.fullmatch(value)
    return [found["what"], found["who"]] if found else ["", value]


def _add_covers(frames: mutagen.id3.ID3, covers: tuple[Cover, ...]) -> None:
    for number, cover in enumerate(covers):
        # Frames of one description replace each other, so later ones are numbered.
        description = cover.description or (str(number) if number else "")
        frames.add(
            mutagen.id3.APIC(encoding=3, mime=cover.media_type, type=cover.kind, desc=description, data=cover.data)
        )


def _add_chapters(frames: mutagen.id3.ID3, chapters: tuple[Chapter, ...]) -> None:
    """CHAP frames with times in ms, and the CTOC frame that lists them (ID3v2 chapter addendum, from memory)."""
    if not chapters:
        return
    names = [f"ch{number}" for number in range(1, len(chapters) + 1)]
    for name, chapter in zip(names, chapters, strict=True):
        frames.add(
            mutagen.id3.CHAP(
                element_id=name,
                start_time=round(chapter.start_seconds * 1000),
                end_time=round(chapter.end_seconds * 1000),
                start_offset=0xFFFFFFFF,
                end_offset=0xFFFFFFFF,
                sub_frames=[mutagen.id3.TIT2(encoding=3, text=[chapter.title])],
            )
        )
    ordered_top_level = mutagen.id3.CTOCFlags.TOP_LEVEL | mutagen.id3.CTOCFlags.ORDERED
    frames.add(mutagen.id3.CTOC(element_id="toc", flags=ordered_top_level, child_element_ids=names, sub_frames=[]))
