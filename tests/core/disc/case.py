"""A test with sound files that can be laid out."""

from rumbrel.core.disc.layout import Programme
from tests.core.case import FolderCase
from tests.core.disc.test_layout import programme
from tests.signals import write_sound


class DiscCase(FolderCase):
    def parts(self, *lengths: int) -> list[Programme]:
        return [
            programme(str(write_sound(self.folder / f"{n}.wav", length, seed=n)), length, f"Peal {n}")
            for n, length in enumerate(lengths, 1)
        ]
