"""Tags and covers: one value, one mapping table, and readers and writers for each tag format."""

from .broadcast import BROADCAST_CONTAINERS, SoundChange, keep_broadcast
from .chapters import read_chapters
from .model import EMPTY_TAGS, Chapter, Cover, TagSet, with_fields
from .reading import read_tags
from .rules import TagRules, apply_rules, cover_of
from .writing import unheld_fields, write_tags

__all__ = [
    "BROADCAST_CONTAINERS",
    "EMPTY_TAGS",
    "Chapter",
    "Cover",
    "SoundChange",
    "TagRules",
    "TagSet",
    "apply_rules",
    "cover_of",
    "keep_broadcast",
    "read_chapters",
    "read_tags",
    "unheld_fields",
    "with_fields",
    "write_tags",
]
