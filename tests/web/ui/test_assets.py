"""The CSS that is served is the one that the styles and templates ask for."""

import hashlib
import re
from pathlib import Path

from django.conf import settings
from django.test import SimpleTestCase


class AssetTests(SimpleTestCase):
    def test_the_built_css_is_not_stale(self) -> None:
        """The stamp holds a digest of the styles and of the classes that templates use, and one of what was built."""
        root = Path(settings.BASE_DIR)
        styles = [root / "assets/rumbrel.css", *sorted((root / "assets/components").glob("*.css"))]
        classes: set[str] = set()
        for path in root.glob("rumbrel/web/*/templates/**/*.html"):
            for text in re.findall(r'class="([^"]*)"', path.read_text(encoding="utf-8")):
                classes.update(re.sub(r"{[{%].*?[%}]}", " ", text).split())
        sources = hashlib.sha256(b"".join(path.read_bytes() for path in styles))
        sources.update(" ".join(sorted(classes)).encode())
        built = (root / "rumbrel/web/ui/static/ui/rumbrel.css").read_bytes()
        stamp = (root / "assets/built.sha256").read_text().split()
        now = [sources.hexdigest(), hashlib.sha256(built).hexdigest()]
        self.assertEqual(stamp, now, "The CSS is stale: run `npm ci && npm run build` in assets/")
