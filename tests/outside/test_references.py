"""Checks against published figures and independent readers. Each names its source."""

import re
import subprocess
import tempfile
import warnings
from pathlib import Path
from unittest import TestCase

import numpy as np
import soundfile
from mutagen.mp3 import MP3
from mutagen.mp3._util import XingHeader
from scipy import signal

from rumbrel.core.containers.mpeg_frames import parse_info_frame, walk_frames
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment, build_chain
from tests.core.disc.test_layout import programme
from tests.marks import slow
from tests.signals import convert_one, music, write_sound


class OutsideCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class TelephoneTests(OutsideCase):
    """ITU-T G.711 (from memory); the bytes are those of Python 3.11's audioop."""

    def test_the_bytes_of_the_table(self) -> None:
        values = np.array([0, 100, 1000, -1000, 8000, 32767, -32768], dtype=np.int16)
        soundfile.write(self.folder / "g711.wav", values, 8000, subtype="PCM_16")
        for target, wanted in (("phone-ulaw", "fff2ce4ea08000"), ("phone-alaw", "d5d3fa7a8aaa2a")):
            outcome = convert_one(self.folder / "g711.wav", target, self.folder / target)
            data = Path(outcome.step.output).read_bytes()
            at = data.index(b"data") + 8
            self.assertEqual(data[at : at + 7].hex(), wanted)

    def test_every_value_is_coded_as_the_reference_does(self) -> None:
        """All 65,536 values of 16 bits through both codings."""
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            import audioop
        values = np.arange(-32_768, 32_768, dtype=np.int16)
        soundfile.write(self.folder / "all.wav", values, 8000, subtype="PCM_16")
        for target, decode in (("phone-ulaw", audioop.ulaw2lin), ("phone-alaw", audioop.alaw2lin)):
            data = Path(convert_one(self.folder / "all.wav", target, self.folder / target).step.output).read_bytes()
            at = data.index(b"data") + 8
            coded = (audioop.lin2ulaw if target == "phone-ulaw" else audioop.lin2alaw)(values.tobytes(), 2)
            # Values and not codes: 0 has two codes in mu-law.
            self.assertEqual(decode(data[at : at + 65_536], 2), decode(coded, 2), target)

    def test_every_code_decodes_as_the_reference_does(self) -> None:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)
            import audioop
        codes = bytes(range(256))
        raw = self.folder / "codes.raw"
        raw.write_bytes(codes)
        ours, _ = soundfile.read(raw, samplerate=8000, channels=1, format="RAW", subtype="ULAW", dtype="int16")
        np.testing.assert_array_equal(ours, np.frombuffer(audioop.ulaw2lin(codes, 2), "<i2"))


class SizeTests(OutsideCase):
    """MPEG-1 Layer III: bytes = floor(144 x bitrate / rate) + padding (ISO/IEC 11172-3, from memory)."""

    def test_constant_bitrate_frames_and_size(self) -> None:
        source = write_sound(self.folder / "a.wav", 44_100 * 10)
        for target, bitrate in (("car-mp3", 320_000), ("radio-mp3", 128_000)):
            outcome = convert_one(source, target, self.folder / target)
            path = Path(outcome.step.output)
            with path.open("rb") as file:
                frames = [header for _, header in walk_frames(file, 0, path.stat().st_size)]
            for header in frames:
                self.assertEqual(header.size_bytes, 144 * bitrate // 44_100 + header.padding)
            self.assertEqual(sum(h.size_bytes for h in frames), path.stat().st_size)
            self.assertAlmostEqual(path.stat().st_size / (bitrate / 8 * 10), 1.0, delta=0.015)
            self.assertEqual({h.mode for h in frames[1:]}, {"joint stereo" if target == "radio-mp3" else "stereo"})
            info = parse_info_frame(path.read_bytes()[: frames[0].size_bytes])
            self.assertEqual((info.frames, info.delay_samples), (len(frames) - 1, 576))

    def test_another_reader_shows_what_was_asked_for(self) -> None:
        """The tag library reads the information frame by the layout of common practice."""
        values = (music(44_100) * 20_000).astype(np.int16)
        values[1_000] = -24_576
        for settings, settings_said, mode in (
            (EncoderSettings(bitrate_kbps=320, effort=2), "-b 320", 1),
            (EncoderSettings(mode="average", bitrate_kbps=192), "--preset 192", 2),
            (EncoderSettings(mode="variable", quality=1.0), "-V 0", 4),
            (EncoderSettings(mode="variable", quality=4 / 9), "-V 5", 4),
        ):
            path = self.folder / "asked.mp3"
            encoder = encoding_for("mp3").open(
                path, SoundShape(sample_rate=44_100, channels=2, depth_bits=16), settings
            )
            encoder.write(values)
            encoder.finish()
            info = MP3(path).info
            self.assertEqual(info.encoder_settings, settings_said)
            with path.open("rb") as file:
                file.seek(4 + 32)
                header = XingHeader(file).lame_header
            self.assertEqual((header.vbr_method, header.quality), (mode, settings.effort or 5))
            self.assertEqual((header.track_peak, header.source_sample_frequency_enum), (0.75, 1))

    def test_pcm_size_is_rate_times_depth_times_channels(self) -> None:
        source = write_sound(self.folder / "a.wav", 96_000, rate=96_000, subtype="PCM_24")
        outcome = convert_one(source, "disc-wav", self.folder / "out")
        self.assertEqual(outcome.bytes_out, 44_100 * 2 * 2 + 44)
        self.assertEqual(outcome.step.after.size_bytes, outcome.bytes_out)

    def test_a_700_megabyte_blank_in_bytes(self) -> None:
        """Derived from 360,000 sectors of 2,352 bytes."""
        self.assertEqual(medium_for("80").capacity_bytes, 846_720_000)


class LengthTests(OutsideCase):
    """A second decoder, libsndfile, finds the lengths that FFmpeg finds."""

    @slow
    def test_two_decoders_agree_to_the_sample(self) -> None:
        for rate in (44_100, 48_000, 32_000):
            source = write_sound(self.folder / f"{rate}.wav", 70_001, rate=rate)
            for target in (
                "car-mp3",
                "archive-flac",
                "disc-wav",
                "radio-mp3",
                "phone-ulaw",
                "open-opus",
                "open-vorbis",
            ):
                path = Path(convert_one(source, target, self.folder / target).step.output)
                sound, _ = soundfile.read(path)
                self.assertEqual(len(sound), inspect_file(path).samples, f"{target} {rate}")

    def test_an_mp3_begins_where_its_source_begins(self) -> None:
        source = write_sound(self.folder / "a.wav", 60_000)
        path = Path(convert_one(source, "car-mp3", self.folder / "out").step.output)
        before, _ = soundfile.read(source)
        after, _ = soundfile.read(path)
        lag = np.argmax(signal.correlate(after[:, 0], before[:, 0], method="fft")) - (len(before) - 1)
        self.assertEqual(lag, 0)


class ResolutionTests(TestCase):
    def test_dither_noise_has_the_power_of_the_textbook(self) -> None:
        """Triangular dither of 2 LSB peak to peak gives LSB^2/4 in all: 4.77 dB above LSB^2/12 (derived)."""
        wide = SoundShape(sample_rate=44_100, channels=2, depth_bits=24)
        narrow = SoundShape(sample_rate=44_100, channels=2, depth_bits=16)
        random = np.random.default_rng(3)
        source = (random.integers(-(1 << 22), 1 << 22, (400_000, 2)) << 8).astype(np.int32)
        out = build_chain(wide, narrow, Treatment()).push(source).astype(np.float64)
        error = out - source / 65536.0
        self.assertAlmostEqual(10 * np.log10(np.mean(error**2) / (1 / 12)), 4.77, delta=0.03)

    def test_shaped_dither_moves_noise_and_makes_none(self) -> None:
        """A filter of error has a mean of 0 dB over its logarithmic spectrum (Gerzon and Craven, AES preprint 2822): the
        mean stays LSB^2/4. Where the ear is keenest, at 3 kHz, 20 dB less are left. Without dither a faint tone is
        rounded to the same steps again and again."""
        for rate, depth in ((44_100, 16), (48_000, 20)):
            wide, narrow = (SoundShape(sample_rate=rate, channels=2, depth_bits=bits) for bits in (0, depth))
            full = float(1 << depth - 1)
            source = np.full((rate * 4, 2), 0.3 / full)
            out = build_chain(wide, narrow, Treatment(dither="shaped")).push(source)
            error = out[:, 0] / (1 << (16 if depth == 16 else 32) - depth) - 0.3
            at, power = signal.welch(error, rate, nperseg=4096)
            power *= rate / 2
            self.assertAlmostEqual(10 * np.log10(power[2:-2]).mean(), 10 * np.log10(0.25), delta=0.3)
            self.assertLess(10 * np.log10(power[np.abs(at - 3_000) < 200].mean() / 0.25), -20)
            bare = build_chain(wide, narrow, Treatment(dither="none")).push(source)
            self.assertFalse(bare.any())
        # At every level: the sound itself stays as it is, to the last of its noise, and only that is shaped.
        count = np.arange(200_000)[:, None]
        for level, depth in ((0.01, 16), (0.3, 16), (0.998, 16), (0.3, 24), (0.8, 8)):
            tone = level * np.sin(count * 0.05) * np.ones((1, 2))
            wide, narrow = (SoundShape(sample_rate=44_100, channels=2, depth_bits=bits) for bits in (0, depth))
            out = build_chain(wide, narrow, Treatment(dither="shaped")).push(tone)
            full = float(1 << depth - 1)
            error = out / (1 << (16 if depth <= 16 else 32) - depth) - tone * full
            self.assertFalse((error[:, 0] == error[:, 1]).all(), "each channel has its own noise")
            at, power = signal.welch(error[:, 0], 44_100, nperseg=4096)
            power *= 44_100 / 2
            mean = 10 * np.log10(power[2:-2]).mean()
            self.assertAlmostEqual(mean, 10 * np.log10(0.25), delta=0.3, msg=f"{level} {depth}")
            self.assertLess(10 * np.log10(power[np.abs(at - 3_000) < 200].mean() / 0.25), -20, (level, depth))
            gain = (error * tone).sum() / (tone * tone * full).sum()
            self.assertLess(abs(gain), 5 * 7.2 / full / level / 400, "and its level stays")
        other = [
            build_chain(SoundShape(sample_rate=32_000, channels=1, depth_bits=0),
                        SoundShape(sample_rate=32_000, channels=1, depth_bits=16), Treatment(dither=dither)).push(
                            np.full((5_000, 1), 1e-5))
            for dither in ("shaped", "flat")
        ]  # fmt: skip
        np.testing.assert_array_equal(*other)

    def _swept(self, rate_in: int, rate_out: int, low: float, high: float) -> tuple[np.ndarray, np.ndarray]:
        """(frequency, level in dB) over the course of a slow sweep that passed the rate change."""
        seconds = 8
        count = np.arange(rate_in * seconds)
        sweep = 0.5 * signal.chirp(count / rate_in, low, seconds, high)[:, None]
        wide, narrow = (SoundShape(sample_rate=rate, channels=1, depth_bits=0) for rate in (rate_in, rate_out))
        chain = build_chain(wide, narrow, Treatment())
        out = np.concatenate([chain.push(sweep), *chain.finish()])[:, 0].astype(np.float64)
        frames = out[: len(out) // 2048 * 2048].reshape(-1, 2048)
        level = 20 * np.log10(np.sqrt((frames**2).mean(axis=1)) / (0.5 / np.sqrt(2)) + 1e-12)
        at = (np.arange(len(frames)) + 0.5) * 2048 / rate_out / seconds
        return low + (high - low) * at, level

    def test_resampling_is_flat_and_clean(self) -> None:
        """Flat within 0.1 dB to 20 kHz, aliases below -120 dB (the project's own promise), by sweeps."""
        for rate_in, rate_out in ((96_000, 44_100), (48_000, 44_100), (44_100, 48_000), (44_100, 96_000)):
            pitch, level = self._swept(rate_in, rate_out, 20, 20_000)
            inside = (pitch > 200) & (pitch < 19_950)
            self.assertLess(np.abs(level[inside]).max(), 0.1, (rate_in, rate_out))
        # Sound above the new half rate must not come back below it.
        pitch, level = self._swept(96_000, 44_100, 24_300, 47_900)
        self.assertLess(level[4:-4].max(), -118, level.max())
        wide, narrow = (SoundShape(sample_rate=rate, channels=1, depth_bits=0) for rate in (96_000, 44_100))
        for tone in (24_500, 30_000, 41_000):
            chain = build_chain(wide, narrow, Treatment())
            sound = 0.5 * np.sin(2 * np.pi * tone * np.arange(192_000) / 96_000)[:, None]
            out = np.concatenate([chain.push(sound), *chain.finish()])[20_000:-20_000]
            self.assertLess(20 * np.log10(np.abs(out).max() / 0.5 + 1e-12), -120, tone)


class CueTests(OutsideCase):
    """libcdio reads the sheet and the image."""

    def test_cd_info_finds_the_tracks_where_they_were_put(self) -> None:
        paths = [write_sound(self.folder / f"{n}.wav", 300_000 + n, seed=n) for n in (1, 2, 3)]
        parts = [programme(str(p), 300_000 + n, f"Peal {n}") for n, p in enumerate(paths, 1)]
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        image = write_image(layout, self.folder, "shop")
        command = ["cd-info", "--no-header", "--no-device-info", "--cue-file", str(image.cue_path)]
        text = subprocess.run(command, capture_output=True, text=True).stdout
        rows = re.findall(r"^\s*(\d+): (\d\d):(\d\d):(\d\d)\s+(\d+) (audio|leadout)", text, re.MULTILINE)
        starts = {int(row[0]): int(row[4]) for row in rows}
        self.assertEqual([starts[n] for n in (1, 2, 3)], [track.start_sector for track in layout.tracks])
        self.assertEqual(starts[170], layout.total_sectors)
        # libcdio prints absolute time, which begins two seconds before address 0.
        first = next(row for row in rows if row[0].strip() == "1")
        self.assertEqual(first[1:4], ("00", "02", "00"))

    def test_times_in_minutes_seconds_and_frames(self) -> None:
        """IEC 60908 (from memory): address = (minutes x 60 + seconds) x 75 + frames - 150."""
        from rumbrel.core.disc.red_book import FIRST_PAUSE_SECTORS, parse_msf

        self.assertEqual(parse_msf("00:02:00") - FIRST_PAUSE_SECTORS, 0)
        self.assertEqual(parse_msf("79:59:74") - FIRST_PAUSE_SECTORS, 359_849)
        self.assertEqual(parse_msf("74:00:00"), 333_000)
