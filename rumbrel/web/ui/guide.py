"""The guide: its pages, which of them belongs to a screen, and how they become HTML."""

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from django.conf import settings
from django.urls import reverse
from markdown_it import MarkdownIt

__all__ = ["GuidePage", "guide_page", "guide_pages", "page_of_screen", "picture_path", "way_pages"]

_ORDER = (
    "gather", "see", "listen", "tags", "fixity", "targets", "forecast", "batch", "compare", "playlists", "discs",
    "take-in", "volumes", "work", "operations", "keys",
)  # fmt: skip
_OF_SCREEN = (
    ("collection:folders", "gather"), ("collection:fixity", "fixity"), ("collection:track", "listen"), ("collection:", "see"),
    ("tags:", "tags"), ("targets:", "targets"), ("batches:forecast", "forecast"), ("batches:track", "forecast"),
    ("batches:", "batch"), ("compare:", "compare"), ("playlists:", "playlists"), ("discs:", "discs"),
    ("bench:volume", "volumes"), ("bench:delivery", "volumes"), ("bench:format", "volumes"), ("bench:", "take-in"),
    ("jobs:", "work"), ("operations:", "operations"), ("accounts:", "operations"),
    ("ui:help", "keys"),
)  # fmt: skip
"""The first that a view's name begins with."""
_LINK = re.compile(r'href="(?:\.\./)*(?:guide/)?(?:ways/)?([a-z0-9-]+)\.md(#[a-z-]*)?"')
_PICTURE = re.compile(r'src="(?:\.\./)*screenshots/([a-z0-9-]+\.png)"')


@dataclass(frozen=True, slots=True, kw_only=True)
class GuidePage:
    """A page by its slug; html is made of our own Markdown, in which no HTML is taken over."""

    slug: str
    title: str
    html: str


def _folder() -> Path:
    return Path(settings.BASE_DIR) / "docs"


@cache
def _paths() -> dict[str, Path]:
    """Every page that is shown, by its slug: no other file can be asked for."""
    found = {path.stem: path for path in sorted((_folder() / "guide" / "ways").glob("*.md"))}
    found |= {path.stem: path for path in sorted((_folder() / "guide").glob("*.md"))}
    more = ("targets-as-text", "commands", "security", "scaling")
    named = {"targets-as-text": "targets.md"}
    found |= {slug: path for slug in more if (path := _folder() / named.get(slug, f"{slug}.md")).is_file()}
    return found


@cache
def guide_page(slug: str) -> GuidePage | None:
    """A page; None where there is none of that name."""
    path = _paths().get(slug)
    if path is None:
        return None
    text = path.read_text(encoding="utf-8")
    title = text.partition("\n")[0].lstrip("# ").strip()
    html = MarkdownIt("commonmark", {"html": False}).enable("table").render(text)
    html = _LINK.sub(lambda link: f'href="{_address(link[1], path)}{link[2] or ""}"', html)
    html = _PICTURE.sub(lambda picture: f'loading="lazy" src="{reverse("ui:guide-picture", args=[picture[1]])}"', html)
    return GuidePage(slug=slug, title=title, html=html)


def _address(slug: str, of: Path) -> str:
    """docs/targets.md is another page than the guide's of that name."""
    known = "targets-as-text" if slug == "targets" and of.parent.name == "guide" and of.stem == "targets" else slug
    return reverse("ui:guide-page", args=[known]) if known in _paths() else reverse("ui:guide")


def guide_pages() -> list[GuidePage]:
    """By stations, in the order of work."""
    return [page for slug in _ORDER if (page := guide_page(slug)) is not None]


def way_pages() -> list[GuidePage]:
    """Whole ways, from what one has to what one wants."""
    slugs = sorted(path.stem for path in _paths().values() if path.parent.name == "ways")
    return [page for slug in slugs if (page := guide_page(slug)) is not None]


def page_of_screen(view: str) -> str:
    """The slug of the page that tells of a screen; "" for none."""
    return next((slug for start, slug in _OF_SCREEN if view.startswith(start)), "")


def picture_path(name: str) -> Path | None:
    """A picture of the guide; None where there is none of that name."""
    path = _folder() / "screenshots" / name
    return path if re.fullmatch(r"[a-z0-9-]+\.png", name) and path.is_file() else None
