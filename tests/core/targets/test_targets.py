"""Targets: refusals that name key and remedy, planning of shapes, complete tables."""

import importlib
import pkgutil
import re
import textwrap
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import rumbrel.core
from rumbrel.core.encoders.encodings import ENCODINGS
from rumbrel.core.errors import TargetError
from rumbrel.core.formats.table import CODECS, CONTAINERS
from rumbrel.core.targets import all_targets, find_target
from rumbrel.core.targets.model import BITRATE_MODES, CHANNEL_MODES
from rumbrel.core.targets.parsing import parse_target
from rumbrel.core.targets.planning import planned_shape
from rumbrel.core.targets.writing import target_toml

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
        # 32 kHz divides 96 and 192, and is too low for what people hear.
        small = find_target("small-player").make
        for source, wanted in (
            (96_000, 44_100),
            (192_000, 44_100),
            (88_200, 44_100),
            (48_000, 44_100),
            (32_000, 32_000),
        ):
            self.assertEqual(planned_shape(small, sample_rate=source, bit_depth=16, channels=2).sample_rate, wanted)
        low = replace(small, sample_rates=(8_000, 22_050))
        self.assertEqual(planned_shape(low, sample_rate=44_100, bit_depth=16, channels=2).sample_rate, 22_050)
        archive = find_target("archive-flac").make
        self.assertEqual(planned_shape(archive, sample_rate=44_100, bit_depth=20, channels=2).depth_bits, 24)

    def test_what_a_target_makes_is_what_it_accepts(self) -> None:
        def text(accepts: str, make: str, container: str = "mp3") -> str:
            rows = f'[[accepts]]\ncodec = "mp3"\ncontainers = ["{container}"]\n{accepts}\n'
            return f'name = "T"\n{rows}[make]\nencoding = "mp3"\nsample_rates = [44100]\nchannels = [2]\n{make}\n'

        constant = 'mode = "constant"\nbitrate_kbps = 128'
        for accepts, make, said in (
            ("max_bitrate_kbps = 128", constant, ""),
            ("max_bitrate_kbps = 127", constant, "up to 128 kbit/s"),
            ("max_bitrate_kbps = 128", 'mode = "average"\nbitrate_kbps = 128', "up to 140.8 kbit/s, where it accepts 128"),
            ("max_bitrate_kbps = 141", 'mode = "average"\nbitrate_kbps = 128', ""),
            ("max_bitrate_kbps = 319", 'mode = "variable"', "up to 320 kbit/s"),
            ("max_bitrate_kbps = 320", 'mode = "variable"', ""),
            ('modes = ["constant"]', 'mode = "variable"', "a variable bitrate"),
            ("sample_rates = [48000]", constant, "44100 Hz"),
            ("channels = [1]", constant, "2 channels"),
        ):  # fmt: skip
            if not said:
                parse_target(text(accepts, make), slug="t")
                continue
            with self.assertRaisesRegex(TargetError, said):
                parse_target(text(accepts, make), slug="t")
        with self.assertRaisesRegex(TargetError, "which it does not accept"):
            parse_target(
                text("", constant).replace('codec = "mp3"', 'codec = "aac"').replace('["mp3"]', '["m4a"]'), slug="t"
            )

    def test_the_page_on_targets_tells_the_truth(self) -> None:
        """Its worked examples are targets, written out and read again the same, and its lists are those of the tables."""
        page = (Path(rumbrel.__file__).parents[1] / "docs" / "targets.md").read_text()
        examples = re.findall(r"```toml\n(.*?)```", page, re.DOTALL)
        self.assertEqual(len(examples), 5)
        for number, text in enumerate(examples):
            target = parse_target(text, slug=f"example-{number}")
            self.assertEqual(parse_target(target_toml(target), slug=target.slug), target)
        self.assertEqual(parse_target(examples[4], slug="e").make.dither, "shaped")
        # The example of all keys is one as well, with the remarks of its lines.
        every = re.search(r"\n\n((?:    .*\n|\n)+)", page)
        assert every is not None
        parse_target(textwrap.dedent(every[1]), slug="every")
        lists = re.split(r"^## ", page, flags=re.MULTILINE)
        named = next(part for part in lists if part.startswith("Codecs, containers"))
        said = {line.split(":")[0]: set(re.findall(r"`([^`]+)`", line)) for line in re.split(r"\n- ", named)[1:]}
        self.assertEqual(said["codec"], {row.key for row in CODECS})
        self.assertEqual(said["containers"], {row.key for row in CONTAINERS})
        self.assertEqual((said["modes"], said["channel_modes"]), (set(BITRATE_MODES), set(CHANNEL_MODES)))
        encodings = next(part for part in lists if part.startswith("Encodings"))
        missing = [row.key for row in ENCODINGS if f"`{row.key}`" not in encodings and not row.key.endswith("-float")]
        self.assertEqual(missing, [])

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
