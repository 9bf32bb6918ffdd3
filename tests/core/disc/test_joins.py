"""Joins: what lies between tracks, heard and measured."""

from dataclasses import replace

import numpy as np
import soundfile
from hypothesis import strategies as st

from rumbrel.core.disc.cue_sheet import read_cue_file
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.joins import meet_without_a_break
from rumbrel.core.disc.layout import Programme, lay_out
from rumbrel.core.disc.media import medium_for
from tests.core.disc.case import DiscCase
from tests.core.disc.test_layout import programme
from tests.signals import music, write_sound

TEXTS = st.text(st.characters(codec="latin-1", min_codepoint=32, exclude_characters="\x7f\t"), max_size=40).map(
    lambda text: "".join(sign for sign in text if not 0x7F <= ord(sign) < 0xA0)
)


def clear(samples: int, seed: int) -> np.ndarray:
    """Chords with hardly any noise, in which the next sample can be foretold."""
    time, random = np.arange(samples) / 44_100, np.random.default_rng(seed)
    pitches = random.uniform(150, 3_000, (2, 6))
    sides = [sum(0.1 * np.sin(2 * np.pi * pitch * time + pitch) for pitch in side) for side in pitches]
    return np.stack(sides, axis=1) + 0.0003 * random.standard_normal((samples, 2))


class JoinTests(DiscCase):
    def _cut(self, sound: np.ndarray, edges: list[int]) -> list[Programme]:
        parts = []
        for number, (a, b) in enumerate(zip(edges[:-1], edges[1:], strict=True), 1):
            path = write_sound(self.folder / f"{number}.wav", sound=sound[a:b])
            parts.append(replace(programme(str(path), b - a, f"Part {number}"), album="One concert"))
        return parts

    def test_a_run_holds_the_unbroken_recording(self) -> None:
        whole = music(800_123)
        first, *rest = self._cut(whole, [0, 200_111, 500_003, 800_123])
        parts = [first, *(replace(part, runs_on=True) for part in rest)]
        self.assertTrue(all(meet_without_a_break(a, b) for a, b in zip(parts, rest, strict=False)))
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("74"))
        self.assertEqual([t.start_sector for t in layout.tracks], [0, 200_111 // 588, 500_003 // 588])
        image = write_image(layout, self.folder / "out", "run")
        samples = np.frombuffer(image.bin_path.read_bytes(), "<i2").reshape(-1, 2)
        write_sound(self.folder / "whole.wav", sound=whole)
        wanted, _ = soundfile.read(self.folder / "whole.wav", dtype="int16")
        np.testing.assert_array_equal(samples[: len(wanted)], wanted)
        self.assertFalse(samples[len(wanted) :].any())
        padded = lay_out([replace(p, runs_on=False) for p in parts], gap_sectors=0, medium=medium_for("74"))
        self.assertEqual(padded.total_sectors, layout.total_sectors + 2)

    def test_a_run_at_another_rate_is_converted_as_one_stream(self) -> None:
        whole = music(480_000, rate=48_000)
        parts = []
        for number, (a, b) in enumerate(((0, 240_017), (240_017, 480_000))):
            path = write_sound(self.folder / f"{number}.wav", sound=whole[a:b], rate=48_000)
            parts.append(replace(programme(str(path), b - a, rate=48_000), runs_on=bool(number)))
        image = write_image(lay_out(parts, gap_sectors=150, medium=medium_for("74")), self.folder / "a", "a")
        path = write_sound(self.folder / "w.wav", sound=whole, rate=48_000)
        once = write_image(
            lay_out([programme(str(path), 480_000, rate=48_000)], gap_sectors=0, medium=medium_for("74")),
            self.folder / "b", "b",
        )  # fmt: skip
        joined_samples, single = (np.frombuffer(i.bin_path.read_bytes(), "<i2").astype(int) for i in (image, once))
        # The dither is drawn in blocks, so that values may differ by its two steps and no more.
        self.assertLessEqual(np.abs(joined_samples - single).max(), 2)

    def test_separate_pieces_and_faded_ends_are_no_run(self) -> None:
        one, two = music(200_000), music(200_000, seed=5) + 0.6
        self.assertFalse(meet_without_a_break(*self._cut(np.concatenate([one, two]), [0, 200_000, 400_000])))
        faded = np.concatenate([one * np.linspace(1, 0, 200_000)[:, None], two * np.linspace(0, 1, 200_000)[:, None]])
        self.assertFalse(meet_without_a_break(*self._cut(faded, [0, 200_000, 400_000])))
        whole = self._cut(music(400_000), [0, 200_000, 400_000])
        # Numbers in the tags that do not follow each other speak against it.
        for numbers, follows in (((1, 2), True), ((0, 2), True), ((2, 1), False), ((1, 3), False)):
            parts = [replace(part, number=number) for part, number in zip(whole, numbers, strict=True)]
            self.assertEqual(meet_without_a_break(*parts), follows, numbers)

    def test_a_join_is_shown_by_prediction_in_both_channels_and_noise_shows_none(self) -> None:
        """Pieces that follow each other by chance at a small step are none; one channel that goes on is not enough."""
        one, two = clear(200_000, 1), clear(200_000, 5)
        self.assertTrue(meet_without_a_break(*self._cut(clear(400_000, 1), [0, 200_000, 400_000])))
        # The place where the other piece is nearest to where this one would go on.
        expected = 2 * one[-1] - one[-2]
        near = int(np.argmin(np.abs(two[5_000:150_000] - expected).max(axis=1))) + 5_000
        noise = 0.2 * np.random.default_rng(1).standard_normal((400_000, 2))
        mixed = np.concatenate([one, two[near : near + 40_000]])
        mixed[:, 0] = clear(240_000, 1)[:, 0]
        for name, sound, edge in (
            ("near", np.concatenate([one, two[near : near + 40_000]]), 200_000), ("noise", noise, 200_000),
            ("one channel alone", mixed, 200_000), ("a sample is missing", np.delete(clear(400_000, 1), 200_000, 0), 200_000),
        ):  # fmt: skip
            with self.subTest(name=name):
                self.assertFalse(meet_without_a_break(*self._cut(sound, [0, edge, len(sound)])))

    def test_gaps_first_pause_hidden_sound_and_marks(self) -> None:
        first, second, third = self.parts(200_000, 210_000, 220_000)
        second = replace(second, gap_sectors=75, index_samples=(58_800, 117_600))
        layout = lay_out([first, second, third], gap_sectors=150, medium=medium_for("74"), first_pause_sectors=300)
        self.assertEqual([t.gap_sectors for t in layout.tracks], [150, 75, 150])
        self.assertEqual(layout.tracks[0].start_sector, 150)
        start = layout.tracks[1].start_sector
        self.assertEqual(layout.tracks[1].index_sectors, (start + 100, start + 200))
        layout = lay_out([second], gap_sectors=0, medium=medium_for("74"), hidden=first)
        image = write_image(layout, self.folder / "out", "h")
        samples = np.frombuffer(image.bin_path.read_bytes(), "<i2").reshape(-1, 2)
        source, _ = soundfile.read(first.path, dtype="int16")
        np.testing.assert_array_equal(samples[: len(source)], source)
        self.assertEqual(read_cue_file(image.cue_path).tracks[0].gap_sector, 0)
