"""Facts and faults come from the content."""

import tempfile
from pathlib import Path
from unittest import TestCase

from PIL import Image

from rumbrel.core.inspection import inspect_file
from tests.signals import convert_one, write_sound


class InspectionTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def _codes(self, path: Path) -> list[str]:
        return [str(fault.code) for fault in inspect_file(path).faults]

    def test_facts_of_each_kind(self) -> None:
        wav = write_sound(self.folder / "a.wav", 50_001, subtype="PCM_24", rate=48_000)
        expected = {
            "archive-flac": ("flac", "flac", 48_000, 24, 50_001, "variable"),
            "disc-wav": ("wav", "pcm", 44_100, 16, 45_938, "constant"),
            "car-mp3": ("mp3", "mp3", 48_000, None, 50_001, "constant"),
            "pocket-aac": ("m4a", "aac", 48_000, None, 50_001, "variable"),
            "phone-ulaw": ("wav", "mu-law", 8_000, None, 8_334, "constant"),
        }
        for target, wanted in expected.items():
            facts = inspect_file(Path(convert_one(wav, target, self.folder / target).step.output))
            found = (
                facts.container, facts.codec, facts.sample_rate, facts.bit_depth, facts.samples, facts.bitrate_mode,
            )  # fmt: skip
            self.assertEqual(found, wanted)
            self.assertEqual(facts.faults, ())

    def test_faults(self) -> None:
        Image.new("RGB", (8, 8)).save(self.folder / "picture.png")
        (self.folder / "picture.mp3").write_bytes((self.folder / "picture.png").read_bytes())
        (self.folder / "words.wav").write_text("no sound here\n" * 99)
        (self.folder / "empty.flac").touch()
        flac = write_sound(self.folder / "a.flac", 90_000)
        (self.folder / "wrong.mp3").write_bytes(flac.read_bytes())
        wav = write_sound(self.folder / "a.wav", 90_000)
        mp3 = Path(convert_one(wav, "car-mp3", self.folder / "out").step.output)
        ogg = write_sound(self.folder / "a.ogg", 90_000, subtype="VORBIS")
        m4a = Path(convert_one(wav, "pocket-aac", self.folder / "out").step.output)
        for whole in (flac, wav, mp3, ogg, m4a):
            cut = self.folder / f"cut{whole.suffix}"
            cut.write_bytes(whole.read_bytes()[: whole.stat().st_size * 3 // 5])
            self.assertEqual(self._codes(whole), [], whole.name)
            self.assertEqual(self._codes(cut), ["cut-short"], cut.name)
            self.assertTrue(0 < inspect_file(cut).samples < 90_000)
        self.assertEqual(self._codes(self.folder / "picture.mp3"), ["no-sound"])
        self.assertEqual(self._codes(self.folder / "words.wav"), ["unreadable"])
        self.assertEqual(self._codes(self.folder / "empty.flac"), ["empty"])
        self.assertEqual(self._codes(self.folder / "absent.flac"), ["missing"])
        self.assertEqual(self._codes(self.folder / "wrong.mp3"), ["wrong-extension"])
        self.assertTrue(inspect_file(self.folder / "wrong.mp3").ok)
