"""Tags and covers: one value, one mapping table, and readers and writers for each tag format."""

from .model import EMPTY_TAGS, Cover, TagSet
from .reading import read_tags
from .writing import write_tags

__all__ = ["EMPTY_TAGS", "Cover", "TagSet", "read_tags", "write_tags"]
