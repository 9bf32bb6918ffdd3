"""A test with a folder of its own, and a place for results in it."""

import tempfile
from pathlib import Path
from unittest import TestCase


class FolderCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.out = self.folder / "out"
