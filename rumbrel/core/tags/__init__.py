"""Tags and covers: one value, one mapping table, and readers and writers for each tag format."""

from .chapters import read_chapters
from .model import EMPTY_TAGS, Chapter, Cover, TagSet, with_fields
from .reading import read_tags
from .rules import TagRules, apply_rules, cover_of
from .writing import unheld_fields, write_tags

__all__ = [
    "EMPTY_TAGS",
    "Chapter",
    "Cover",
    "TagRules",
    "TagSet",
    "apply_rules",
    "cover_of",
    "read_chapters",
    "read_tags",
    "unheld_fields",
    "with_fields",
    "write_tags",
]
