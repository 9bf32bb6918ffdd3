"""The picture that can be looked into, held to sounds whose extremes, bands and loudness are known."""

from pathlib import Path

import numpy as np

from rumbrel.core.sound.fine_picture import FLOOR_DB, FinePicture, FinePictureMaker, load_picture
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.shape import SoundShape
from tests.core.case import FolderCase

RATE = 48_000


def pictured(sound: np.ndarray, blocks: int = 4_096) -> FinePicture:
    shape = SoundShape(sample_rate=RATE, channels=sound.shape[1], depth_bits=16 if sound.dtype == np.int16 else 0)
    maker, meter = FinePictureMaker(shape, len(sound)), LevelMeter(shape)
    for start in range(0, len(sound), blocks):
        maker.push(sound[start : start + blocks])
        meter.push(sound[start : start + blocks])
    return maker.picture(meter.short_term_lufs())


class FinePictureTests(FolderCase):
    def test_columns_hold_the_extremes_wherever_blocks_are_cut(self) -> None:
        sound = (np.random.default_rng(3).normal(size=(RATE + 123, 2)) * 4_000).astype(np.int16)
        wide = RATE // 100
        columns = -(-len(sound) // wide)
        lows = [sound[at * wide : (at + 1) * wide].min() for at in range(columns)]
        highs = [sound[at * wide : (at + 1) * wide].max() for at in range(columns)]
        whole = pictured(sound)
        self.assertEqual((whole.lows.tolist(), whole.highs.tolist()), (lows, highs))
        cut = pictured(sound, 777)
        for name in ("lows", "highs", "spectrum", "loudness"):
            self.assertTrue(
                np.array_equal(getattr(whole, name), getattr(cut, name), equal_nan=name == "loudness"), name
            )

    def test_a_tone_stands_in_its_band_at_its_level(self) -> None:
        time = np.arange(5 * RATE) / RATE
        sound = np.zeros((len(time), 2), dtype=np.float32)
        sound[:, 1] = 0.5 * np.sin(2 * np.pi * 6_100 * time)
        picture = pictured(sound)
        bands = picture.spectrum.shape[1]
        middle = picture.spectrum[len(picture.spectrum) // 2].astype(int) + FLOOR_DB
        edges = picture.edges_hz
        at = int(middle.argmax())
        self.assertTrue(edges[at] <= 6_100 < edges[at + 1], "also where it is in one channel alone")
        # The mel scale has 1000 mel at 1 kHz, and about as many between 1 and 3.4 kHz (O'Shaughnessy 1987).
        self.assertAlmostEqual(
            np.searchsorted(edges, 1_000) / bands, 1000 / (2595 * np.log10(1 + RATE / 1400)), delta=0.02
        )
        self.assertAlmostEqual(middle.max(), -6, delta=2)
        self.assertLess(middle[: bands // 2].max(), -60)
        self.assertEqual(len(picture.spectrum), 100, "twenty looks a second, the last ones shorter")

    def test_loudness_is_short_term(self) -> None:
        """EBU Tech 3341, case 1: 1 kHz in both channels at -23 dBFS reads -23 LUFS."""
        tone = 10 ** (-23 / 20) * np.sin(2 * np.pi * 1_000 * np.arange(6 * RATE) / RATE)
        loudness = pictured(np.stack([tone, tone], axis=1)).loudness
        self.assertTrue(np.isnan(loudness[:29]).all())
        self.assertTrue(np.allclose(loudness[29:], -23, atol=0.1))
        self.assertEqual(len(loudness), 60)

    def test_a_view_keeps_extremes_and_stays_within_its_columns(self) -> None:
        sound = np.zeros((20 * RATE, 1), dtype=np.int16)
        sound[5 * RATE + 17] = 12_345
        picture = pictured(sound)
        view = picture.view(0, 20, 100)
        self.assertEqual((len(view.highs), view.highs.argmax(), view.highs.max()), (100, 25, 12_345))
        self.assertLessEqual(len(view.spectrum), 50)
        close = picture.view(5, 5.1, 100)
        self.assertEqual((len(close.highs), close.highs[0]), (10, 12_345))
        self.assertEqual(picture.view(6, 20, 100).highs.max(), 0)

    def test_kept_whole_and_another_versions_is_none(self) -> None:
        picture, path = pictured(np.ones((RATE, 1), dtype=np.int16)), self.folder / "pictures" / "1.npz"
        self.assertIsNone(load_picture(path))
        picture.save(path)
        self.assertEqual([entry.name for entry in path.parent.iterdir()], ["1.npz"])
        again = load_picture(path)
        assert again is not None
        self.assertEqual((again.samples, again.lows.tolist()), (RATE, picture.lows.tolist()))
        with np.load(path) as kept:
            other = dict(kept)
        # The first version had bands that are equally wide: a tone in them stands at its place.
        linear = np.zeros_like(picture.spectrum)
        linear[:, round(6_000 / (RATE / 2) * 96)] = 100
        np.savez_compressed(
            Path(path), **other | {"spectrum": linear, "head": np.concatenate([[1], other["head"][1:]])}
        )
        older = load_picture(path)
        assert older is not None
        at = np.flatnonzero(older.spectrum[0])
        self.assertTrue(
            (older.edges_hz[at] < 6_400).all() and (older.edges_hz[at + 1] > 5_900).all() and len(at) in (1, 2, 3)
        )
        other["head"][0] += 1
        np.savez_compressed(Path(path), **other)
        self.assertIsNone(load_picture(path))
