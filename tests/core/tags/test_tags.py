"""Tags and covers cross between the formats and are read by the tag library itself."""

import io
import tempfile
from pathlib import Path
from unittest import TestCase

import mutagen
from PIL import Image

from rumbrel.core.conversion.lane import carried_tags
from rumbrel.core.forecast import forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.tags import Cover, TagSet, write_tags
from rumbrel.core.tags.mapping import FIELDS
from rumbrel.core.targets import find_target
from tests.signals import write_sound

FIELD_VALUES = {
    "title": ("Ropes “and” sallies",),
    "artist": ("A. Venning", "M. Orrel"),
    "album": ("Tower days",),
    "track": ("3/12",),
    "date": ("2024",),
    "comment": ("Größe",),
    "isrc": ("XAOSW2400001",),
    "Bell count": ("8",),
}


class TagTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        picture = io.BytesIO()
        Image.new("RGB", (40, 40), "#0d6a5d").save(picture, "JPEG")
        self.tags = TagSet(fields=FIELD_VALUES, covers=(Cover(media_type="image/jpeg", data=picture.getvalue()),))

    def test_covers_are_carried_with_their_data(self) -> None:
        flac = write_sound(self.folder / "a.flac", 9_000)
        write_tags(flac, self.tags, container="flac", codec="flac")
        self.assertEqual(inspect_file(flac).tags.covers[0].data, b"")
        step = forecast_batch(gather_sources([flac]), find_target("car-mp3"), self.folder / "out").steps[0]
        self.assertEqual([cover.data for cover in carried_tags(step).covers], [self.tags.covers[0].data])

    def test_the_tag_library_reads_the_customary_names(self) -> None:
        flac = write_sound(self.folder / "a.flac", 9_000)
        write_tags(flac, self.tags, container="flac", codec="flac")
        found = mutagen.File(flac)
        self.assertEqual(found["TITLE"], ["Ropes “and” sallies"])
        self.assertEqual((found["TRACKNUMBER"], found["TRACKTOTAL"]), (["3"], ["12"]))

    def test_the_table_has_no_two_rows_for_one_name(self) -> None:
        for column in ("name", "id3", "mp4", "vorbis", "ape", "asf"):
            names = [getattr(row, column).lower() for row in FIELDS]
            self.assertEqual(len(names), len(set(names)), column)
            self.assertTrue(all(names), column)
