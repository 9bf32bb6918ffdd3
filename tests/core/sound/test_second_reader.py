"""What is decoded is right: frames by their own format, and a second decoder that has to agree."""

import wave
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import av
import numpy as np
import soundfile

from rumbrel.core.conversion import carry_out
from rumbrel.core.forecast import forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_deep, inspect_file
from rumbrel.core.sound import decoding
from rumbrel.core.sound.decoding import _as_shaped, open_sound
from rumbrel.core.sound.level import as_float
from rumbrel.core.sound.second_reader import SecondReading, open_twice_read, readers_of
from rumbrel.core.sound.shape import Block
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import music, write_film, write_framed

RATE = 44_100


def read(path: Path) -> np.ndarray:
    facts = inspect_file(path)
    with open_twice_read(path, facts.choice(), facts.samples) as sound:
        return np.concatenate([as_float(block) for block in sound.blocks()])


class FrameFormatTests(FolderCase):
    def test_layer_2_keeps_its_level(self) -> None:
        """Its decoder delivers 16 bit integers where the header promises floating point."""
        for rate, name in ((44_100, "a.mp2"), (24_000, "b.mp2")):
            path = write_framed(self.folder / name, "mp2", muxer="mp2", rate=rate)
            found, sound = read(path), music(rate * 2, rate=rate)
            level = 20 * np.log10(np.std(found[4_000:-4_000]) / np.std(sound))
            self.assertLess(abs(level), 0.3, rate)
            # libmpg123 is of another make and has no header of ours to trust.
            other, _ = soundfile.read(path, dtype="float64", always_2d=True)
            self.assertLess(np.abs(found - other[: len(found)]).max(), 1e-4)

    def test_every_format_keeps_its_level_in_every_element_type(self) -> None:
        """Full scale and half of it: 0x40 of a byte, 0x4000 of 16 bit (two's complement, IEC 60908)."""
        halves = {
            "u8": np.uint8(192),
            "s16": np.int16(1 << 14),
            "s32": np.int32(1 << 30),
            "flt": np.float32(0.5),
            "dbl": 0.5,
        }
        for kind, half in halves.items():
            values: Block = np.array([[half, -half if kind != "u8" else np.uint8(64)]])
            for dtype in (np.int16, np.int32, np.float32, np.float64):
                with self.subTest(kind=kind, dtype=dtype.__name__):
                    shaped = _as_shaped(values, kind, np.dtype(dtype))
                    self.assertEqual(shaped.dtype, dtype)
                    np.testing.assert_array_equal(as_float(shaped), [[0.5, -0.5]])
        loud = _as_shaped(np.array([[2.0, -2.0]]), "dbl", np.dtype(np.int16))
        np.testing.assert_array_equal(loud, [[32767, -32768]])

    def test_a_decoder_that_changes_its_mind_in_the_middle_is_read_at_its_level(self) -> None:
        frames = []
        for kind, value in (("fltp", np.float32(0.5)), ("s16p", np.int16(1 << 14)), ("s32p", np.int32(1 << 30))):
            frame = av.AudioFrame.from_ndarray(np.full((2, 500), value), format=kind, layout="stereo")
            frame.sample_rate = 48_000
            frames.append(frame)
        empty = av.AudioFrame(format="fltp", layout="stereo", samples=0)
        empty.sample_rate = 48_000
        path = write_framed(self.folder / "a.mp2", "mp2", muxer="mp2")

        def changing(source: decoding._FramedSource) -> Iterator[av.AudioFrame]:
            yield from (frames[0], empty, *frames[1:])

        with mock.patch.object(decoding._FramedSource, "_frames", changing):
            with open_sound(path, inspect_file(path).choice()) as sound:
                found = np.concatenate(list(sound.blocks()))
        np.testing.assert_array_equal(found, np.full((1_500, 2), 0.5))


class SecondReaderTests(FolderCase):
    def files(self) -> Iterator[Path]:
        sound = 0.3 * music(RATE * 3)
        for name, subtype in (("a.wav", "PCM_16"), ("b.wav", "PCM_24"), ("c.wav", "FLOAT"), ("d.aiff", "PCM_24"),
                              ("e.flac", "PCM_16"), ("f.flac", "PCM_24"), ("g.ogg", "VORBIS"), ("h.mp3", "MPEG_LAYER_III"),
                              ("i.wav", "ULAW"), ("j.wav", "PCM_U8")):  # fmt: skip
            soundfile.write(self.folder / name, sound, RATE, subtype=subtype)
            yield self.folder / name
        yield write_framed(self.folder / "k.opus", "libopus", muxer="ogg")
        yield write_framed(self.folder / "l.m4a", "aac", muxer="mp4")
        yield write_framed(self.folder / "m.mka", "aac", muxer="matroska")
        yield write_framed(self.folder / "n.ac3", "ac3", muxer="ac3")
        yield write_film(self.folder / "o.mkv", seconds=3, sound_late_seconds=0.5)

    def test_two_readers_agree_about_every_kind_that_both_read(self) -> None:
        for path in self.files():
            with self.subTest(path.name):
                self.assertEqual(len(readers_of(inspect_file(path).choice())), 2)
                read(path)

    def test_one_wrong_sample_in_a_stretch_or_a_wrong_level_is_a_disagreement(self) -> None:
        for path in self.files():
            facts = inspect_file(path)
            with open_sound(path, facts.choice()) as sound:
                right = [np.array(block) for block in sound.blocks()]
            whole = np.concatenate(right)
            shape = sound.shape
            louder = (whole * 2.3).astype(whole.dtype)
            shifted = np.roll(whole, 5_000, axis=0)
            # Between decoders of Opus, and of noise in AAC, only energies agree.
            of_energy = path.suffix in (".opus", ".m4a", ".mka", ".mkv", ".ac3")
            wrong = [("louder", louder), *([] if of_energy else [("shifted", shifted)])]
            if path.suffix in (".wav", ".aiff", ".flac"):
                touched = whole.copy()
                touched[len(whole) - 5_000, 1] = touched[len(whole) - 5_000, 1] // 2 + 1
                wrong.append(("one sample", touched))
            for name, values in (("right", whole), *wrong):
                with self.subTest(path=path.name, wrong=name):
                    second = SecondReading(path, facts.choice(), shape, facts.samples)
                    for start in range(0, len(values), 10_000):
                        second.push(values[start : start + 10_000])
                    said = second.disagreement()
                    self.assertEqual(bool(said), name != "right", said)
                    if said:
                        for reader in readers_of(facts.choice()):
                            self.assertIn(reader, said)

    def test_a_disagreement_is_a_fault_and_no_result_is_made(self) -> None:
        path = self.folder / "a.wav"
        soundfile.write(path, 0.3 * music(RATE), RATE, subtype="PCM_16")
        (step,) = forecast_batch(gather_sources([path]), find_target("archive-flac"), self.folder / "out").steps
        with mock.patch("rumbrel.core.sound.second_reader._agree", return_value=False):
            outcome = carry_out(step)
            found = inspect_deep(inspect_file(path))
        self.assertIn("libsndfile and FFmpeg find other sound", outcome.error)
        self.assertFalse(outcome.ok or Path(step.output).exists())
        self.assertEqual([str(fault.code) for fault in found.facts.faults], ["readers-differ"])
        self.assertFalse(found.facts.usable)

    def test_of_a_kind_with_one_reader_the_impossible_is_refused(self) -> None:
        path = write_framed(self.folder / "a.wma", "wmav2", muxer="asf")
        facts = inspect_file(path)
        with open_sound(path, facts.choice()) as sound:
            block = np.concatenate(list(sound.blocks()))
        peak = float(np.abs(block).max())
        for factor, impossible in ((3.99 / peak, False), (4.01 / peak, True)):
            second = SecondReading(path, facts.choice(), sound.shape, facts.samples)
            second.push((block * factor).astype(np.float32))
            self.assertEqual("12 dB beyond full scale" in second.disagreement(), impossible, factor)

    def test_a_second_reader_that_cannot_read_accuses_nobody(self) -> None:
        path = self.folder / "a.wav"
        with wave.open(str(path), "wb") as file:
            file.setparams((1, 2, 8_000, 0, "NONE", ""))
            file.writeframes(b"\0\1" * 20_000)
        with mock.patch("rumbrel.core.sound.second_reader.FramedPart", side_effect=av.error.InvalidDataError(1, "no")):
            self.assertEqual(len(read(path)), 20_000)
