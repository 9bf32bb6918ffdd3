"""Tags as one value, whatever format they came from."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

__all__ = ["EMPTY_TAGS", "Chapter", "Cover", "TagSet", "joined_tags", "with_fields"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Cover:
    """A picture as the file holds it. kind is the ID3v2 picture type; 3 is the front cover.

    data is empty in Facts, which travel between processes by the thousand; size_bytes stays.
    """

    media_type: str
    data: bytes = b""
    kind: int = 3
    description: str = ""
    size_bytes: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Chapter:
    """A named stretch of a track."""

    start_seconds: float
    end_seconds: float
    title: str


@dataclass(frozen=True, slots=True, kw_only=True)
class TagSet:
    """fields maps our field names (mapping.FIELDS) to their values in order.

    Names outside the table belong to fields nobody standardised; they are carried as they are. left_out
    names what the file has beside them and nothing carries; broadcast, which chunks of broadcast WAV it has, which are
    carried only between files of that family. languages are those that comment and lyrics state of themselves
    (ISO 639-2), by their fields.
    """

    fields: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    covers: tuple[Cover, ...] = ()
    chapters: tuple[Chapter, ...] = ()
    left_out: tuple[str, ...] = ()
    broadcast: tuple[str, ...] = ()
    languages: Mapping[str, str] = field(default_factory=dict)

    def first(self, name: str) -> str:
        """The first value of a field, or an empty string."""
        values = self.fields.get(name, ())
        return values[0] if values else ""

    def as_text(self) -> dict[str, str]:
        """For reports: several values joined by a semicolon."""
        return {name: "; ".join(values) for name, values in self.fields.items()}

    def without_pictures(self) -> "TagSet":
        """The same with the covers' sizes but not their data."""
        if not self.covers:
            return self
        covers = tuple(replace(cover, data=b"", size_bytes=len(cover.data)) for cover in self.covers)
        return replace(self, covers=covers)


EMPTY_TAGS = TagSet()


def joined_tags(first: TagSet, second: TagSet) -> TagSet:
    """Tags of a file that has them twice: the second's where the first is silent."""
    return TagSet(
        fields={**second.fields, **first.fields},
        covers=first.covers or second.covers,
        chapters=first.chapters or second.chapters,
        left_out=tuple(dict.fromkeys(first.left_out + second.left_out)),
        broadcast=first.broadcast or second.broadcast,
        languages=first.languages or second.languages,
    )


def with_fields(tags: TagSet, fields: Iterable[tuple[str, str]]) -> TagSet:
    """Tags in which some fields have other values; an empty one takes its field out."""
    changed = dict(tags.fields)
    for name, value in fields:
        if value:
            changed[name] = (value,)
        else:
            changed.pop(name, None)
    return replace(tags, fields=changed)
