"""Tags and covers cross between the formats and are read by the tag library itself."""

import io
import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import mutagen
from PIL import Image

from rumbrel.core.conversion import carry_out
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
    "isrc": ("QZOSW2400001",),
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

    def test_every_crossing_keeps_fields_and_cover(self) -> None:
        wav = write_sound(self.folder / "a.wav", 9_000)
        self.assertEqual(write_tags(wav, self.tags, container="wav", codec="pcm"), ())
        sources = [wav]
        for target in ("archive-flac", "car-mp3", "pocket-aac"):
            step = forecast_batch(gather_sources([wav]), find_target(target), self.folder / target).steps[0]
            self.assertTrue(carry_out(step).ok)
            sources.append(Path(step.output))
        for source in sources:
            for target in ("archive-flac", "car-mp3", "pocket-aac", "disc-wav"):
                place = self.folder / "x" / source.suffix[1:] / target
                step = forecast_batch(gather_sources([source]), find_target(target), place).steps[0]
                outcome = carry_out(step)
                self.assertTrue(outcome.ok, outcome.error)
                tags = inspect_file(Path(step.output)).tags
                for name, values in FIELD_VALUES.items():
                    self.assertEqual(tags.fields.get(name), values, f"{name} from {source.suffix} to {target}")
                self.assertEqual([cover.size_bytes for cover in tags.covers], [len(self.tags.covers[0].data)])
                covers = carried_tags(replace(step, source=inspect_file(Path(step.output)))).covers
                self.assertEqual([cover.data for cover in covers], [self.tags.covers[0].data])

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
