"""Every encoding in the table writes what was forecast, and refuses what it does not have."""

import tempfile
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

import av
import numpy as np
import soundfile

from rumbrel.core.conversion import carry_out, carry_out_group, verify_step
from rumbrel.core.encoders.encodings import ENCODINGS, Encoding, encoding_for
from rumbrel.core.encoders.mp3 import constant_stream_bytes
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import EncodeError, TargetError
from rumbrel.core.forecast import Action, ForecastOptions, WarningCode, forecast_batch, gather_sources, plan_sound
from rumbrel.core.inspection import Facts, inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.targets import Target, find_target
from rumbrel.core.targets.parsing import parse_target
from tests.marks import slow
from tests.signals import convert_one, decoded, music, write_film, write_framed, write_sound


def plain_target(encoding: Encoding) -> Target:
    """A target that takes just what an encoding makes."""
    rates = f"sample_rates = [{encoding.rates[-1]}]" if encoding.rates else ""
    return parse_target(
        f'name = "T"\n[[accepts]]\ncodec = "{encoding.codec}"\ncontainers = ["{encoding.read_container}"]\n'
        f'[make]\nencoding = "{encoding.key}"\n{rates}\n',
        slug=f"only-{encoding.key}",
    )


class EncodingTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    @slow
    def test_every_encoding_keeps_its_promises_of_length_and_size(self) -> None:
        sources = [
            write_sound(self.folder / "deep.flac", 30_011, subtype="PCM_24"),
            write_sound(self.folder / "mono.wav", 30_011, rate=8_000, channels=1),
            write_sound(self.folder / "float.wav", 30_011, subtype="FLOAT", rate=96_000),
        ]
        for encoding in ENCODINGS:
            for source in sources:
                step = forecast_batch(
                    gather_sources([source]), plain_target(encoding), self.folder / encoding.key
                ).steps[0]
                outcome, after = carry_out(step), step.after
                self.assertTrue(outcome.ok and outcome.checked, f"{encoding.key}: {outcome.error}")
                assert after is not None
                if after.size_exact:
                    self.assertEqual(outcome.bytes_out, after.size_bytes, f"{encoding.key} {source.name}")
                self.assertTrue(after.least_bytes <= outcome.bytes_out <= after.most_bytes, encoding.key)
                facts = inspect_file(Path(step.output))
                self.assertEqual((facts.container, facts.codec), (after.container, after.codec))
                self.assertEqual(facts.faults, ())

    def test_lossless_encodings_return_the_samples_themselves(self) -> None:
        source = write_sound(self.folder / "a.wav", 20_003)
        wanted = decoded(source)
        for encoding in ENCODINGS:
            if encoding.lossless and encoding.depths:
                step = forecast_batch(
                    gather_sources([source]), plain_target(encoding), self.folder / encoding.key
                ).steps[0]
                self.assertTrue(carry_out(step).ok, encoding.key)
                np.testing.assert_array_equal(decoded(Path(step.output)), wanted, encoding.key)

    @slow
    def test_every_speaker_keeps_its_place(self) -> None:
        """A tone of its own in each channel, in WAV's order; FFmpeg's layouts are that order too."""
        rate, low = 48_000, 40
        seconds = np.arange(rate) / rate
        # Orders in the Vorbis I specification, 4.3.9, which Opus takes over (RFC 7845, 5.1.1.2).
        in_ogg = {3: [0, 2, 1], 5: [0, 2, 1, 3, 4], 6: [0, 2, 1, 4, 5, 3], 7: [0, 2, 1, 5, 6, 4, 3],
                  8: [0, 2, 1, 6, 7, 4, 5, 3]}  # fmt: skip

        def order(sound: np.ndarray, sample_rate: int) -> list[int]:
            part = sound[20_000:28_192] * np.hanning(8192)[:, None]
            tops = np.argmax(np.abs(np.fft.rfft(part, axis=0)), axis=0) * sample_rate / 8192
            return [3 if top < 2 * low else round(top / 300) - 1 for top in tops]

        for channels in (3, 4, 5, 6, 7, 8):
            # Only low tones come through the fourth channel where that is the one for low frequencies.
            pitches = [low if channels > 5 and n == 3 else 300 * (n + 1) for n in range(channels)]
            sound = 0.4 * np.sin(2 * np.pi * np.outer(seconds, pitches))
            source = write_sound(self.folder / f"{channels}.wav", sound=sound, rate=rate)
            for encoding in ENCODINGS:
                if channels not in encoding.channel_counts or encoding.rates and rate not in encoding.rates:
                    continue
                target = plain_target(encoding)
                step = forecast_batch(gather_sources([source]), target, self.folder / encoding.key).steps[0]
                if encoding.key in ("wav", "rf64"):
                    self.assertEqual(step.action, Action.COPY)
                    continue
                self.assertEqual(step.shape and step.shape.channels, channels, f"{encoding.key}: {step.reason}")
                outcome = carry_out(step)
                self.assertTrue(outcome.ok, f"{encoding.key}: {outcome.error}")
                path, result = Path(step.output), inspect_file(Path(step.output))
                self.assertEqual(order(decoded(path), result.sample_rate), list(range(channels)), encoding.key)
                if encoding.container == "ogg":
                    with soundfile.SoundFile(path) as file:
                        read = np.concatenate([file.read(2048, always_2d=True) for _ in range(15)])
                    self.assertEqual(order(read, rate), in_ogg.get(channels, [0, 1, 2, 3]), encoding.key)

    def test_an_option_that_an_encoder_does_not_have_is_refused(self) -> None:
        stereo = SoundShape(sample_rate=44_100, channels=2, depth_bits=16)
        for key, settings, word in (
            ("wav", {"bitrate_kbps": 192}, "bitrate"),
            ("wav", {"effort": 3}, "effort"),
            ("flac", {"effort": 9}, "0 to 8"),
            ("flac", {"quality": 0.5}, "quality"),
            ("aac", {"mode": "constant"}, "average"),
            ("aac", {"quality": 0.5}, "quality"),
            ("opus", {"joint_stereo": True}, "joint stereo"),
            ("mp3", {"bitrate_kbps": 144}, "144"),
            ("mp3", {"mode": "variable", "bitrate_kbps": 192}, "led by quality"),
            ("mp3", {"mode": "constant", "quality": 0.5}, "quality"),
            ("vox", {}, "44100 Hz"),
            ("wma", {"bitrate_kbps": 100}, "100"),
        ):
            with self.assertRaisesRegex(EncodeError, word):
                encoding_for(key).check_request(stereo, EncoderSettings(**settings))  # type: ignore[arg-type]

    def test_album_runs_play_on_without_a_gap(self) -> None:
        """A tone cut into three pieces and joined again from lossy results has no step at the joins."""
        whole = np.sin(2 * np.pi * 441.3 * np.arange(150_000) / 44_100)[:, None] * [0.5, 0.5]
        edges = (0, 40_017, 97_333, 150_000)
        for target in ("car-mp3", "pocket-aac", "open-vorbis", "average-mp3", "variable-mp3"):
            parts = []
            for number, (start, stop) in enumerate(zip(edges[:-1], edges[1:], strict=True)):
                source = write_sound(self.folder / target / f"{number}.wav", sound=whole[start:stop])
                parts.append(decoded(Path(convert_one(source, target, self.folder / "out" / target).step.output)))
            joined = np.concatenate(parts) / 2**31
            self.assertEqual(len(joined), len(whole), target)
            error = np.abs(joined - whole).max(axis=1)
            self.assertLess(error[40_017 - 300 : 40_017 + 300].max(), 0.12, target)
            self.assertLess(error[60_000:90_000].max(), 0.05, target)

    def test_several_targets_from_one_decode_equal_single_runs(self) -> None:
        source = write_sound(self.folder / "a.flac", 60_000)
        slugs = ("car-mp3", "disc-wav", "pocket-alac", "phone-vox")
        steps = [
            forecast_batch(gather_sources([source]), find_target(slug), self.folder / "many" / slug).steps[0]
            for slug in slugs
        ]
        for slug, outcome in zip(slugs, carry_out_group(steps), strict=True):
            self.assertTrue(outcome.ok, outcome.error)
            alone = convert_one(source, slug, self.folder / "alone" / slug)
            self.assertEqual(Path(outcome.step.output).read_bytes(), Path(alone.step.output).read_bytes(), slug)

    def test_one_failing_target_does_not_stop_the_others(self) -> None:
        source = write_sound(self.folder / "a.flac", 60_000)
        (self.folder / "blocked").write_text("a file where a folder should be")
        places = {"car-mp3": self.folder / "blocked" / "x", "disc-wav": self.folder / "fine"}
        steps = [
            forecast_batch(gather_sources([source]), find_target(slug), place).steps[0]
            for slug, place in places.items()
        ]
        failed, fine = carry_out_group(steps)
        self.assertIn("not a folder", failed.error)
        self.assertTrue(fine.ok and Path(fine.step.output).is_file())


class RewrapTests(TestCase):
    setUp = EncodingTests.setUp

    def test_only_the_container_changes(self) -> None:
        """Sound of a film and bare frames are packed into M4A with the same coded sound."""
        film = write_film(self.folder / "film.mp4", seconds=2)
        outcome = convert_one(film, "pocket-aac", self.folder / "out")
        self.assertEqual(outcome.step.action, Action.REWRAP, outcome.step.reason)
        self.assertTrue(outcome.ok and outcome.digest, outcome.error)
        np.testing.assert_array_equal(decoded(film), decoded(Path(outcome.step.output)))

    @slow
    def test_every_pair_of_containers_keeps_every_sample(self) -> None:
        """Containers with coarse times, with delays stated in ways of their own, and with none at all."""
        vorbis = self.folder / "sound-ogg.mkv"
        made = convert_one(write_sound(self.folder / "a.wav", 90_007), "open-vorbis", self.folder)
        with av.open(made.step.output) as reading, av.open(str(vorbis), "w") as writing:
            stream = writing.add_stream_from_template(reading.streams.audio[0])
            for packet in reading.demux(reading.streams.audio[0]):
                if packet.dts is not None:
                    packet.stream = stream
                    writing.mux(packet)
        for codec, encoder, suffix, container in (
            ("aac", "aac", "mkv", "m4a"), ("aac", "aac", "mov", "adts"), ("aac", "aac", "ts", "m4a"),
            ("alac", "alac", "mkv", "m4a"), ("alac", "alac", "caf", "m4a"), ("flac", "flac", "mkv", "flac"),
            ("opus", "libopus", "webm", "ogg"), ("opus", "libopus", "mp4", "ogg"), ("vorbis", "", "mkv", "ogg"),
            ("mp3", "libmp3lame", "mkv", "mp3"), ("mp3", "libmp3lame", "mov", "mp3"), ("mp3", "libmp3lame", "avi", "mp3"),
            ("mp3", "libmp3lame", "wav", "mp3"), ("ac3", "ac3", "mkv", "ac3"), ("ac3", "ac3", "mov", "ac3"),
        ):  # fmt: skip
            for rate in (48_000,) if codec in ("opus", "vorbis") else (44_100, 48_000):
                muxer = {"mkv": "matroska", "ts": "mpegts"}.get(suffix, suffix)
                source = self.folder / f"{rate}{codec}.{suffix}"
                source = write_framed(source, encoder, muxer=muxer, rate=rate, seconds=1.77) if encoder else vorbis
                case = f"{source.name} to {container}"
                target = parse_target(
                    f'name = "x"\n[[accepts]]\ncodec = "{codec}"\ncontainers = ["{container}"]\n'
                    '[[accepts]]\ncodec = "pcm"\ncontainers = ["wav"]\n[make]\nencoding = "wav"\n',
                    slug="x",
                )
                place = self.folder / case.replace(" ", "-")
                step = forecast_batch(gather_sources([source]), target, place).steps[0]
                self.assertEqual(step.action, Action.REWRAP, f"{case}: {step.reason}")
                outcome = carry_out(step)
                self.assertTrue(outcome.ok, f"{case}: {outcome.error}")
                before, after = decoded(source), decoded(Path(step.output))
                extra = len(after) - len(before)
                warned = "length-differs" in {str(warning.code) for warning in outcome.warnings}
                self.assertEqual(warned, container in ("adts", "ac3"), case)
                self.assertTrue(extra == 0 or warned, f"{case}: {extra}")
                start = next(at for at in range(extra + 1) if not extra or (after[at : at + 50] == before[:50]).all())
                # Vorbis in Ogg has a decoder of its own, which differs in the last bit.
                loosely = 2.0**8 if codec == "vorbis" else 0
                np.testing.assert_allclose(after[start : start + len(before)], before, rtol=0, atol=loosely)
                if container in ("flac", "mp3", "ogg") and suffix not in ("avi", "wav"):
                    # Another decoder counts the same.
                    self.assertEqual(soundfile.info(step.output).frames, len(before), case)
                self.assertTrue(verify_step(replace(step, replaces=True)).ok, case)
                step = forecast_batch(
                    gather_sources([source]), target, place / "n", options=ForecastOptions(rewraps=False)
                ).steps[0]
                self.assertEqual(step.action, Action.CONVERT, case)

    def test_a_film_whose_sound_begins_late_keeps_its_place(self) -> None:
        film = write_film(self.folder / "late.mkv", seconds=2, sound_late_seconds=0.5)
        facts = inspect_file(film)
        self.assertEqual(facts.lead_samples, 24_000)
        outcome = convert_one(film, "disc-wav", self.folder / "out")
        self.assertTrue(outcome.ok, outcome.error)
        sound = decoded(Path(outcome.step.output))
        self.assertEqual(len(sound), round(facts.samples * 44_100 / 48_000))
        # Half a second of silence, but for the foot of the resampler.
        self.assertLess(np.abs(sound[:21_900]).max() / 2**31, 0.001)
        self.assertGreater(np.abs(sound[23_000:30_000]).max() / 2**31, 0.05)


class LimitTests(TestCase):
    def _facts(self, seconds: float, **more: object) -> Facts:
        values: dict[str, object] = {
            "path": "/x/a.wav", "size_bytes": 10, "container": "wav", "codec": "pcm", "lossless": True,
            "sample_rate": 96_000, "bit_depth": 24, "channels": 2, "samples": round(seconds * 96_000),
        }  # fmt: skip
        return Facts(**{**values, **more})  # type: ignore[arg-type]

    def test_beyond_four_gigabytes_wav_becomes_rf64_and_aiff_is_refused(self) -> None:
        """EBU Tech 3306 (from memory): 32 bit sizes end at 4 GiB."""
        long = self._facts(3 * 3600, sample_rate=192_000, samples=3 * 3600 * 192_000)
        wav = parse_target(
            'name = "W"\n[[accepts]]\ncodec = "pcm"\ncontainers = ["wav"]\nbit_depths = [16]\n'
            '[make]\nencoding = "wav"\nbit_depths = [16]',
            slug="w",
        )
        self.assertEqual(plan_sound(long, wav).encoding, "rf64")
        self.assertEqual(plan_sound(self._facts(60), wav).encoding, "wav")
        aiff = parse_target(
            'name = "A"\n[[accepts]]\ncodec = "pcm"\ncontainers = ["aiff"]\n[make]\nencoding = "aiff"', slug="a"
        )
        step = plan_sound(long, aiff)
        self.assertEqual(step.action, Action.REFUSE)
        self.assertIn("4 GiB", step.reason)

    def test_warnings_by_code(self) -> None:
        lossy = {"container": "mp3", "codec": "mp3", "lossless": False, "bit_depth": None, "bitrate_bps": 128_000,
                 "sample_rate": 44_100, "samples": 441_000}  # fmt: skip
        cases = (
            (self._facts(5, **lossy), "pocket-aac", {WarningCode.LOSSY_TO_LOSSY, WarningCode.BITRATE_ABOVE_SOURCE}),
            (self._facts(5, **lossy), "archive-flac", {WarningCode.LOSSY_TO_LOSSLESS}),
            (self._facts(5, bit_depth=24), "disc-wav", {WarningCode.DEPTH_REDUCED, WarningCode.RATE_LOWERED}),
            (self._facts(5, bit_depth=8, sample_rate=22_050), "disc-wav", {WarningCode.UPSAMPLED}),
            (self._facts(5, bit_depth=8, sample_rate=44_100), "disc-wav", {WarningCode.DEEPER_THAN_SOURCE}),
            (self._facts(5, bit_depth=16, sample_rate=44_100, channels=1), "disc-wav", set()),
        )
        for facts, slug, wanted in cases:
            found = {warning.code for warning in plan_sound(facts, find_target(slug)).warnings}
            self.assertEqual(found, wanted, f"{facts.codec} {facts.bit_depth} to {slug}")

    def test_the_size_of_a_constant_stream_is_exact_for_every_length(self) -> None:
        for samples in (1, 576, 1_153, 44_100, 100_003):
            for rate, kbps, channels in ((44_100, 320, 2), (44_100, 128, 2), (48_000, 192, 1), (22_050, 48, 1)):
                with tempfile.TemporaryDirectory() as folder:
                    path = Path(folder, "a.mp3")
                    shape = SoundShape(sample_rate=rate, channels=channels, depth_bits=16)
                    encoder = encoding_for("mp3").open(path, shape, EncoderSettings(bitrate_kbps=kbps))
                    encoder.write((music(samples, channels=channels) * 20_000).astype(np.int16))
                    encoder.finish()
                    wanted = constant_stream_bytes(samples, rate, kbps, channels=channels)
                    self.assertEqual(path.stat().st_size, wanted, (samples, rate, kbps, channels))

    def test_hostile_targets(self) -> None:
        good = 'name = "T"\n[[accepts]]\ncodec = "mp3"\ncontainers = ["mp3"]\n[make]\nencoding = "mp3"\n'
        for more, word in (
            ('[names]\npattern = "{title.__class__}"', "no field"),
            ('[names]\npattern = "../{title}"', "folder"),
            ('[names]\npattern = "{title:>999999}"', "width"),
            ('[names]\npattern = "same"', "no field"),
            ('[names]\nfile_system = "moon"', "fat32"),
            ('[tags]\nid3 = "2.2"', "2.4"),
            ("[tags]\ncover_pixels = 1", "16"),
            ('[level]\nmode = "loud"', "album"),
            ("[level]\nloudness_lufs = nan", "loudness"),
            ("[playlists]\nkind = true", "kind"),
            ("strict = 1", "strict"),
            ('dither = "shaped"\nsample_rates = [32000]', "shaped dither is for 44100 and 48000"),
            ('dither = "loud"\nsample_rates = [44100]', "flat, shaped, none"),
        ):
            with self.assertRaisesRegex(TargetError, word):
                parse_target(good.replace("[[accepts]]", f"{more}\n[[accepts]]" if "[" not in more else "[[accepts]]")
                             + (more if "[" in more else ""), slug="t")  # fmt: skip
