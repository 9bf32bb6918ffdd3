"""Nothing beyond full scale is limited in silence: a master's copy fails, a disc and a lossy result say so."""

from pathlib import Path

import numpy as np

from rumbrel.core.conversion import carry_out
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.forecast import WarningCode
from rumbrel.core.inspection import inspect_file
from rumbrel.core.workflows.design_disc import plan_design
from rumbrel.core.workflows.disc_sounds import measured_sounds, programme_of
from rumbrel.core.workflows.gather_disc import gather_disc
from tests.core.forecast.case import PlanCase
from tests.signals import decoded, music, write_sound


class ClippingTests(PlanCase):
    def master(self, level: float) -> Path:
        """Floating point whose largest value is the level."""
        sound = music(300_000)
        return write_sound(self.folder / "in" / "m.wav", sound=sound / np.abs(sound).max() * level, subtype="FLOAT")

    def test_an_archive_copy_of_a_master_beyond_full_scale_is_refused_with_the_figure(self) -> None:
        self.master(1.4125)
        outcome = carry_out(self.plan("in", target="archive-flac").steps[0])
        self.assertFalse(outcome.ok)
        self.assertIn("goes up to 3.0 dB beyond full scale", outcome.error)
        self.assertEqual(list(self.out.rglob("*.flac")), [])

    def test_one_within_full_scale_is_copied(self) -> None:
        self.master(0.999)
        self.assertTrue(carry_out(self.plan("in", target="archive-flac").steps[0]).ok)

    def test_where_the_target_takes_floating_point_every_value_is_kept(self) -> None:
        path = self.master(1.4125)
        step = self.plan("in", target="archive-wavpack").steps[0]
        outcome = carry_out(step)
        self.assertEqual((outcome.ok, step.encoding, outcome.warnings), (True, "wavpack-float", ()), outcome.error)
        self.assertTrue(np.array_equal(decoded(Path(step.output)), decoded(path)))

    def test_a_lossy_result_says_what_was_limited_and_by_how_much_to_lower_it(self) -> None:
        self.master(1.4125)
        outcome = carry_out(self.plan("in", target="car-mp3").steps[0])
        found = [warning.text for warning in outcome.warnings if warning.code is WarningCode.CLIPPING]
        self.assertTrue(outcome.ok and found, outcome.error)
        self.assertIn("go up to 3.0 dB beyond full scale", found[0])

    def test_what_coding_lifts_beyond_full_scale_is_found_and_said(self) -> None:
        time = np.arange(44_100 * 4) / 44_100
        square = np.sign(np.sin(2 * np.pi * 997 * time)) * 0.99
        for level, lifted in ((1.0, True), (0.5, False)):
            with self.subTest(level=level):
                write_sound(self.folder / f"{level}" / "m.wav", sound=np.stack([square, square], axis=1) * level)
                step = self.plan(f"{level}", target="car-mp3", name_addition=f" {level}").steps[0]
                outcome = carry_out(step)
                said = [w.text for w in outcome.warnings if w.code is WarningCode.CLIPPING]
                self.assertEqual((outcome.ok, len(said)), (True, int(lifted)), said)
                peak_db = 20 * np.log10(np.abs(decoded(Path(step.output))).max() / 2**31)
                if lifted:
                    stated = float(said[0].split("reaches ")[1].split(" dB")[0])
                    self.assertTrue(0.5 * peak_db < stated <= peak_db + 0.06, (stated, peak_db))

    def test_a_disc_tells_what_it_limited_with_and_without_measuring(self) -> None:
        master = self.master(1.4125)
        programme = programme_of(inspect_file(master))
        image = write_image(lay_out([programme], gap_sectors=150, medium=medium_for("80")), self.folder, "d")
        self.assertEqual([(each.track, round(each.over_db, 1)) for each in image.limited], [(1, 3.0)])
        self.assertGreater(image.limited[0].values, 10)
        gathered = gather_disc([master])
        design = gathered.design
        planned = plan_design(design, measured_sounds(design, gathered.sounds, jobs=1))
        found = [each.text for each in planned.findings if each.code == "clipping"]
        text = "the level takes the peaks of track 1 up to 3.0 dB beyond full scale, where they are limited"
        self.assertEqual(found, [f"{text}; lower the level"])
        quieter = write_image(
            lay_out([programme_of(inspect_file(self.master(0.9)))], gap_sectors=150, medium=medium_for("80")),
            self.folder,
            "e",
        )
        self.assertEqual(quieter.limited, ())

    def test_surround_sound_is_mixed_with_an_announcement_and_what_goes_over_is_said(self) -> None:
        write_sound(self.folder / "in" / "six.wav", sound=np.tile(music(120_000)[:, :1], (1, 6)) * 1.4, channels=6)
        for target in ("car-mp3", "open-opus"):
            step = self.plan("in", target=target).steps[0]
            said = [warning.text for warning in step.warnings if warning.code is WarningCode.MIXED]
            self.assertEqual(
                said,
                ["Mixed from 6 channels to 2: L R in full, C Ls Rs at −3 dB, LFE left out. Together they may go up to 8 dB "
                 "beyond full scale; the report says whether they did."],
            )  # fmt: skip
            over = [w.text for w in carry_out(step).warnings if w.code is WarningCode.CLIPPING]
            self.assertGreaterEqual(len(over), 1, target)
            self.assertRegex(over[0], r"sample values go up to \d\.\d dB beyond full scale")
