"""Floating point files with values that are no numbers, infinite or absurd: told, measured beside them, never silent."""

import json
import warnings
from pathlib import Path

import numpy as np

from rumbrel.core.inspection import inspect_deep, inspect_file
from tests.core.case import FolderCase
from tests.signals import convert_one, decoded, music, write_sound


class NoNumbersTests(FolderCase):
    def file(self, value: float, count: int = 10) -> Path:
        sound = music(60_000) * 0.4
        sound[20_000 : 20_000 + count] = value
        return write_sound(self.folder / "in" / f"{value}.wav", subtype="FLOAT", sound=sound)

    def test_the_deep_look_tells_them_and_measures_the_rest(self) -> None:
        plain = inspect_deep(inspect_file(self.file(0.0))).as_record()
        for value, told in ((np.nan, True), (np.inf, True), (-np.inf, True), (3e38, False)):
            with warnings.catch_warnings():
                warnings.simplefilter("error")
                found = inspect_deep(inspect_file(self.file(value)), picture_file=self.folder / "p.npz")
            json.dumps(found.as_record(), allow_nan=False)
            said = [fault.text for fault in found.facts.faults if "no numbers" in fault.text]
            self.assertEqual(
                said, ["20 values are no numbers, or infinite. Make the file again where it came from."] if told else []
            )
            if np.isnan(value):
                self.assertAlmostEqual(found.as_record()["true_peak_dbtp"], plain["true_peak_dbtp"], delta=0.5)
            else:
                self.assertGreater(found.as_record()["true_peak_dbtp"], 100)

    def test_a_conversion_says_what_it_lost_and_keeps_the_rest(self) -> None:
        outcome = convert_one(self.file(np.nan), "archive-flac", self.folder / "out")
        self.assertTrue(outcome.partial and not outcome.ok)
        self.assertIn("20 sample values are no numbers", " ".join(w.text for w in outcome.warnings))
        made, clean = decoded(Path(outcome.step.output)), music(60_000) * 0.4
        self.assertLess(np.abs(made[:19_000] / np.abs(made).max() * np.abs(clean).max() - clean[:19_000]).max(), 0.01)
        self.assertFalse(np.abs(made[20_000:20_010]).max() > np.abs(made).max() * 1e-4)
