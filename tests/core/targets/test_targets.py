"""Targets: refusals that name key and remedy, planning of shapes, complete tables."""

import importlib
import pkgutil
from unittest import TestCase

import rumbrel.core
from rumbrel.core.encoders.encodings import ENCODINGS
from rumbrel.core.errors import TargetError
from rumbrel.core.formats.table import CODECS, CONTAINERS
from rumbrel.core.targets import all_targets, find_target
from rumbrel.core.targets.parsing import parse_target
from rumbrel.core.targets.planning import planned_shape

GOOD = """
name = "Trial"
[[accepts]]
codec = "mp3"
containers = ["mp3"]
[make]
encoding = "mp3"
mode = "constant"
bitrate_kbps = 192
"""


class TargetTests(TestCase):
    def test_wrong_values_are_named_with_their_key(self) -> None:
        self.assertEqual(parse_target(GOOD, slug="trial").make.settings.bitrate_kbps, 192)
        for old, new, words in (
            ('codec = "mp3"', 'codec = "mp9"', ("codec", "mp9", "flac")),
            ("bitrate_kbps = 192", "bitrate_kbps = 193", ("193", "192")),
            ("bitrate_kbps = 192", "bitrate_kbps = true", ("bitrate_kbps", "number")),
            ("bitrate_kbps = 192", "bitrates = 192", ("unknown key", "bitrates")),
            ("bitrate_kbps = 192", "bitrate_kbps = 192\njoint_stereo = true", ("joint stereo", "160")),
            ('mode = "constant"', 'mode = "loud"', ("mode", "loud", "variable")),
            ('name = "Trial"', "", ("name",)),
            ("[make]", "[made]", ("make",)),
            ('containers = ["mp3"]', "containers = []", ("containers", "empty")),
            ('encoding = "mp3"', 'encoding = "mp3', ("TOML",)),
        ):
            with self.assertRaises(TargetError) as caught:
                parse_target(GOOD.replace(old, new), slug="trial")
            for word in words:
                self.assertIn(word, str(caught.exception))

    def test_unknown_target_lists_the_known(self) -> None:
        with self.assertRaisesRegex(TargetError, "car-mp3"):
            find_target("nowhere")

    def test_rates_stay_or_go_to_the_nearest_of_their_family(self) -> None:
        make = find_target("car-mp3").make
        for source, wanted in (
            (44_100, 44_100), (96_000, 48_000), (88_200, 44_100), (22_050, 44_100), (8_000, 32_000), (384_000, 48_000),
        ):  # fmt: skip
            self.assertEqual(planned_shape(make, sample_rate=source, bit_depth=16, channels=2).sample_rate, wanted)
        archive = find_target("archive-flac").make
        self.assertEqual(planned_shape(archive, sample_rate=44_100, bit_depth=20, channels=2).depth_bits, 24)

    def test_tables_are_complete(self) -> None:
        containers, codecs = {row.key for row in CONTAINERS}, {row.key for row in CODECS}
        for row in ENCODINGS:
            self.assertIn(row.container, containers)
            self.assertIn(row.codec, codecs)
        self.assertEqual(len({target.slug for target in all_targets()}), len(all_targets()))

    def test_every_listed_name_can_be_imported(self) -> None:
        for info in pkgutil.walk_packages(rumbrel.core.__path__, "rumbrel.core."):
            module = importlib.import_module(info.name)
            for name in getattr(module, "__all__", ()):
                self.assertTrue(hasattr(module, name), f"{info.name}.{name}")
