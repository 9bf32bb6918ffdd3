"""What inspection tells of every kind of file, and what only a whole decode shows."""

import os
import struct
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.containers.flac_frames import crc16
from rumbrel.core.conversion import carry_out
from rumbrel.core.forecast import Action
from rumbrel.core.inspection import DeepFacts, inspect_deep, inspect_file, inspect_many
from rumbrel.core.inspection import inspect as inspection
from tests.core.case import FolderCase
from tests.marks import slow
from tests.signals import convert_one, decoded, music, write_film, write_framed, write_sound


class DeepCase(FolderCase):
    def deep(self, sound: np.ndarray, *, subtype: str = "PCM_16", rate: int = 44_100) -> DeepFacts:
        path = write_sound(self.folder / "d.wav", sound=sound, subtype=subtype, rate=rate)
        return inspect_deep(inspect_file(path))


class KindTests(DeepCase):
    @slow
    def test_kinds_that_other_programs_write(self) -> None:
        for name, muxer, codec, rate, channels, wanted in (
            ("a.mp2", "mp2", "mp2", 48_000, 2, ("mp3", "mp2")),
            ("a.ac3", "ac3", "ac3", 48_000, 2, ("ac3", "ac3")),
            ("a.eac3", "eac3", "eac3", 48_000, 2, ("ac3", "eac3")),
            ("a.tta", "tta", "tta", 44_100, 2, ("tta", "tta")),
            ("a.wma", "asf", "wmav2", 44_100, 2, ("asf", "wma")),
            ("a.wv", "wv", "wavpack", 44_100, 2, ("wavpack", "wavpack")),
            ("a.amr", "amr", "libopencore_amrnb", 8_000, 1, ("amr", "amr")),
            ("a.3gp", "3gp", "libopencore_amrnb", 8_000, 1, ("m4a", "amr")),
            ("a.webm", "webm", "libopus", 48_000, 2, ("matroska", "opus")),
            ("a.mov", "mov", "pcm_s16be", 48_000, 2, ("m4a", "pcm")),
            ("a.avi", "avi", "mp3", 48_000, 2, ("avi", "mp3")),
            ("a.caf", "caf", "alac", 44_100, 2, ("caf", "alac")),
            ("a.au", "au", "pcm_alaw", 8_000, 1, ("au", "a-law")),
            ("a.w64", "w64", "pcm_s24le", 96_000, 2, ("w64", "pcm")),
            ("ms.wav", "wav", "adpcm_ms", 22_050, 1, ("wav", "ms-adpcm")),
            ("a.aac", "adts", "aac", 44_100, 2, ("adts", "aac")),
        ):
            facts = inspect_file(write_framed(self.folder / name, codec, muxer=muxer, rate=rate, channels=channels))
            found = (facts.container, facts.codec, facts.sample_rate, facts.channels)
            self.assertEqual(found, (*wanted, rate, channels), name)
            self.assertTrue(facts.ok and facts.samples >= rate * 1.9, f"{name}: {facts.faults} {facts.samples}")
            outcome = convert_one(self.folder / name, "disc-wav", self.folder / "out" / name)
            self.assertTrue(outcome.ok, f"{name}: {outcome.error}")

    @slow
    def test_lengths_are_exact_where_containers_round_them_or_cut_twice(self) -> None:
        """Edits in thousandths of a second, remainders of the last packet, samples wider than any array."""
        for encoder, muxer, suffix, rate in (
            ("aac", "mp4", "mp4", 44_100), ("aac", "mov", "mov", 48_000), ("libmp3lame", "mov", "mov", 44_100),
            ("libopencore_amrnb", "3gp", "3gp", 8_000), ("alac", "mov", "mov", 44_100), ("alac", "caf", "caf", 44_100),
            ("libopus", "mp4", "mp4", 48_000), ("pcm_s64le", "wav", "wav", 44_100),
        ):  # fmt: skip
            name, channels = f"{encoder}.{suffix}", 1 if rate == 8_000 else 2
            path = write_framed(self.folder / name, encoder, muxer=muxer, rate=rate, seconds=1.77311, channels=channels)
            self.assertEqual(inspect_file(path).samples, round(rate * 1.77311), name)
            self.assertEqual(len(decoded(path)), round(rate * 1.77311), name)
            outcome = convert_one(path, "archive-wavpack", self.folder / "out" / name)
            self.assertTrue(outcome.ok, f"{name}: {outcome.error}")
            self.assertEqual(outcome.samples_out, outcome.samples_in, name)

    def test_every_sound_of_a_film_with_its_language(self) -> None:
        facts = inspect_file(write_film(self.folder / "f.mkv", seconds=1, languages=("eng", "dut")))
        self.assertEqual([stream.language for stream in facts.streams], ["eng", "dut"])
        self.assertTrue(facts.has_video)
        codes = {str(w.code) for w in convert_one(self.folder / "f.mkv", "disc-wav", self.folder / "o").warnings}
        self.assertIn("more-sounds", codes)

    @slow
    def test_the_sound_of_a_film_that_is_asked_for(self) -> None:
        def lowest_tone_hz(path: Path) -> float:
            sound = decoded(path)[:, 0]
            spectrum = np.abs(np.fft.rfft(sound[:44_100] * np.hanning(44_100), 44_100 * 4))
            return float(np.argmax(spectrum[:1_000]) / 4 * inspect_file(path).sample_rate / 44_100)

        for name in ("f.mkv", "f.mp4"):
            film = write_film(self.folder / name, seconds=2, languages=("eng", "dut"))
            # The two sounds have their lowest tones at 220 Hz raised by one and two fiftieths.
            for target in ("disc-wav", "pocket-aac"):
                for wish, wanted, codes in (
                    ("", 224.4, {"more-sounds"}), ("1", 224.4, {"more-sounds"}), ("DUT", 228.8, {"more-sounds"}),
                    ("2", 228.8, {"more-sounds"}), ("fra", 224.4, {"more-sounds", "other-sound"}),
                ):  # fmt: skip
                    outcome = convert_one(film, target, self.folder / f"{name}{target}{wish}", sound=wish)
                    self.assertTrue(outcome.ok, outcome.error)
                    self.assertAlmostEqual(lowest_tone_hz(Path(outcome.step.output)), wanted, delta=1)
                    found = {str(w.code) for w in outcome.warnings}
                    self.assertEqual(found & {"more-sounds", "other-sound"}, codes, (name, target, wish))

    def test_headers_alone_tell_what_a_decoder_finds(self) -> None:
        """The quick readers against opening and decoding the same files."""
        wav = write_sound(self.folder / "a.wav", 70_003)
        paths = [wav, write_sound(self.folder / "deep.wav", 9_001, subtype="PCM_24", rate=96_000),
                 write_sound(self.folder / "float.wav", 9_001, subtype="FLOAT"),
                 write_sound(self.folder / "a.aiff", 9_001, rate=48_000), write_sound(self.folder / "f.aiff", 9_001, subtype="FLOAT"),
                 write_sound(self.folder / "d.aiff", 9_001, subtype="PCM_24", channels=1),
                 write_sound(self.folder / "x.wav", 9_001, subtype="ULAW", rate=8_000, channels=1)]  # fmt: skip
        for target in (
            "archive-flac",
            "car-mp3",
            "variable-mp3",
            "pocket-aac",
            "pocket-alac",
            "open-opus",
            "open-vorbis",
        ):
            paths.append(Path(convert_one(wav, target, self.folder / target).step.output))
        for path in paths:
            self.assertIsNotNone(inspection.read_heading(path, path.stat().st_size), path.name)
            quick = inspect_file(path)
            self.assertEqual(quick.samples, len(decoded(path)), path.name)
            original, inspection.read_heading = inspection.read_heading, lambda path, size: None
            try:
                slow = inspect_file(path)
            finally:
                inspection.read_heading = original
            for name in (
                "container",
                "codec",
                "sample_rate",
                "channels",
                "bit_depth",
                "samples",
                "bitrate_mode",
                "faults",
            ):
                self.assertEqual(getattr(quick, name), getattr(slow, name), f"{name} of {path.name}")

    @slow
    def test_whatever_is_cut_short_is_told_and_its_beginning_saved(self) -> None:
        """Nothing in bare streams says where they should end; there the torn frame shows."""
        for encoder, muxer, suffix, code in (
            ("aac", "matroska", "mkv", "cut-short"), ("libopus", "webm", "webm", "cut-short"),
            ("libopus", "ogg", "opus", "cut-short"), ("wmav2", "asf", "wma", "cut-short"),
            ("aac", "avi", "avi", "cut-short"), ("tta", "tta", "tta", "cut-short"),
            ("wavpack", "wv", "wv", "cut-short"), ("flac", "flac", "flac", "cut-short"),
            ("libmp3lame", "mp3", "mp3", "cut-short"), ("libmp3lame", "wav", "wav", "cut-short"),
            ("pcm_s16le", "caf", "caf", "cut-short"), ("pcm_s16be", "au", "au", "cut-short"),
            ("pcm_s16le", "w64", "w64", "cut-short"), ("pcm_s16be", "aiff", "aiff", "cut-short"),
            ("aac", "adts", "aac", "damaged"), ("aac", "mp4", "mp4", "unreadable"), ("alac", "caf", "caf", "unreadable"),
        ):  # fmt: skip
            path = write_framed(self.folder / f"{encoder}.{suffix}", encoder, muxer=muxer, seconds=6)
            whole = inspect_file(path).samples
            self.assertTrue(inspect_file(path).ok, path.name)
            path.write_bytes(path.read_bytes()[: path.stat().st_size * 61 // 100])
            facts = inspect_file(path)
            self.assertEqual([str(fault.code) for fault in facts.faults], [code], path.name)
            if code == "unreadable":
                self.assertIn("never finished", facts.faults[0].text)
                continue
            self.assertTrue(0.4 * whole < facts.samples < 0.7 * whole, f"{path.name}: {facts.samples} of {whole}")
            self.assertEqual(len(decoded(path)), facts.samples, path.name)
            outcome = convert_one(path, "archive-wavpack", self.folder / f"{path.name}-out")
            self.assertEqual((outcome.ok, outcome.samples_out), (False, facts.samples), outcome.error)
            self.assertIn("Only a part", outcome.error)

    def test_information_frames_are_believed_as_far_as_the_file_bears_them_out(self) -> None:
        whole = Path(convert_one(write_sound(self.folder / "a.wav", 90_007), "car-mp3", self.folder).step.output)
        data = whole.read_bytes()
        start = data.index(b"Info") - 36
        frame = len(data[start:]) // (inspect_file(whole).samples // 1152 + 3)
        tags = b"APETAGEX" + (2000).to_bytes(4, "little") + (32).to_bytes(4, "little") + bytes(4) + bytes(12)
        for name, content, samples, code in (
            # Two joined files: the first one's statement is not about the second.
            ("joined", data[start:] + data[start:], None, ""),
            ("tags", data + tags + b"TAG" + bytes(125), 90_007, ""),
            ("torn", data[: len(data) - frame // 2], None, "cut-short"),
            ("rest", data + b"\x01\x02\x03" * 200, 90_007, ""),
        ):
            path = self.folder / f"{name}.mp3"
            path.write_bytes(content)
            facts = inspect_file(path)
            self.assertEqual([str(fault.code) for fault in facts.faults], [code] if code else [], name)
            self.assertEqual(len(decoded(path)), facts.samples, name)
            self.assertEqual(facts.samples, samples or facts.samples, name)
            if name == "joined":
                self.assertEqual(facts.samples, 2 * 90_007)

    def test_an_index_without_its_sound(self) -> None:
        whole = Path(convert_one(write_sound(self.folder / "a.wav", 90_007), "pocket-aac", self.folder).step.output)
        data = whole.read_bytes()
        # The index comes first, so that it outlives the cut.
        at = data.index(b"mdat")
        (self.folder / "i.m4a").write_bytes(data[: at - 4] + (8).to_bytes(4, "big") + b"mdat")
        self.assertFalse(inspect_file(self.folder / "i.m4a").usable)

    def test_faults_of_absent_and_placeholder_files(self) -> None:
        placeholder = self.folder / "kept elsewhere.flac"
        with placeholder.open("wb") as file:
            file.truncate(5_000_000)
        if placeholder.stat().st_blocks == 0:
            self.assertEqual([str(p.code) for p in inspect_file(placeholder).faults], ["not-present"])
        self.assertEqual(convert_one(placeholder, "car-mp3", self.folder / "o").step.action, Action.REFUSE)

    def test_protected_and_one_bit_sound(self) -> None:
        m4a = Path(convert_one(write_sound(self.folder / "a.wav"), "pocket-aac", self.folder / "o").step.output)
        path = self.folder / "protected.m4a"
        path.write_bytes(m4a.read_bytes().replace(b"mp4a", b"drms", 1))
        self.assertEqual([str(p.code) for p in inspect_file(path).faults], ["protected"])
        outcome = convert_one(one_bit_file(self.folder / "a.dsf"), "archive-flac", self.folder / "o")
        facts = inspect_file(self.folder / "a.dsf")
        self.assertEqual((facts.container, facts.codec, facts.channels), ("dsf", "dsd", 2))
        self.assertTrue(outcome.ok, outcome.error)
        self.assertEqual(inspect_file(Path(outcome.step.output)).bit_depth, 24)

    @slow
    def test_many_keep_their_order_and_agree_with_one_at_a_time(self) -> None:
        paths = [write_sound(self.folder / f"{n}.wav", 2_000 + n) for n in range(40)]
        found = [deep.facts for deep in inspect_many(paths, deep=False, jobs=2)]
        self.assertEqual(found, [inspect_file(path) for path in paths])

    def test_a_depth_of_24_in_samples_of_32_stays_24(self) -> None:
        raw = (music(9_000) * 2**23).astype("<i4") << 8
        path = self.folder / "v.wav"
        with soundfile.SoundFile(path, "w", 44_100, 2, subtype="PCM_32", format="WAVEX") as file:
            file.write(raw)
        data = bytearray(path.read_bytes())
        data[data.index(b"fmt ") + 8 + 18 : data.index(b"fmt ") + 8 + 20] = (24).to_bytes(2, "little")
        path.write_bytes(data)
        self.assertEqual(inspect_file(path).bit_depth, 24)
        outcome = convert_one(path, "archive-flac", self.folder / "o")
        self.assertTrue(outcome.ok and outcome.digest)
        np.testing.assert_array_equal(decoded(Path(outcome.step.output)), raw.astype(np.float64))


def one_bit_file(path: Path) -> Path:
    """Half a second of 2.8 MHz noise in a DSF: its three chunks, blocks of 4,096 bytes a channel (from memory)."""
    blocks, rate = 43, 2_822_400
    data = np.random.default_rng(1).integers(0, 256, blocks * 2 * 4096, dtype=np.uint8).tobytes()
    form = struct.pack("<4sQIIIIIIQII", b"fmt ", 52, 1, 0, 2, 2, rate, 1, blocks * 4096 * 8, 4096, 0)
    body = form + struct.pack("<4sQ", b"data", len(data) + 12) + data
    path.write_bytes(struct.pack("<4sQQQ", b"DSD ", 28, 28 + len(body), 0) + body)
    return path


class DeepTests(DeepCase):
    def test_clipping_silence_and_channels(self) -> None:
        time = np.arange(44_100) / 44_100
        loud = np.clip(1.5 * np.sin(2 * np.pi * 50 * time), -1, 1)
        state = self.deep(np.stack([loud, 0.1 * loud], axis=1)).state
        assert state is not None
        self.assertEqual(state.clipped_runs, 100)
        quiet = np.concatenate([np.zeros((1_000, 2)), music(20_000), np.zeros((3_000, 2))])
        found = self.deep(quiet)
        assert found.ends is not None
        self.assertAlmostEqual(found.ends.leading_samples, 1_000, delta=30)
        self.assertAlmostEqual(found.ends.trailing_samples, 3_000, delta=30)
        mono = music(20_000, channels=1)
        for pair, wanted in (((1, 1), "identical"), ((1, -1), "inverted"), ((1, 0), "silent 2"), ((0, 1), "silent 1")):
            state = self.deep(mono * pair).state
            self.assertEqual(state and state.channels_text, wanted)

    def test_used_bits_and_digest(self) -> None:
        sound = music(9_000)
        shallow = np.round(sound * 32_767) / 32_768
        found, plain = self.deep(shallow, subtype="PCM_24"), self.deep(shallow)
        assert found.state is not None
        self.assertEqual(found.state.used_bits, 16)
        self.assertEqual(found.digest, plain.digest)

    def test_what_was_lossy_or_raised_in_rate_is_doubtful(self) -> None:
        whole = write_sound(self.folder / "a.wav", 44_100 * 4)
        lossy = Path(convert_one(whole, "radio-mp3", self.folder / "o").step.output)
        disguised = write_sound(self.folder / "b.flac", sound=decoded(lossy) / 2**31)
        raised = Path(convert_one(whole, "archive-flac", self.folder / "o").step.output)
        self.assertEqual(inspect_deep(inspect_file(raised)).facts.faults, ())
        faults = inspect_deep(inspect_file(disguised)).facts.faults
        self.assertEqual([str(p.code) for p in faults], ["doubtful-lossless"])
        self.assertRegex(faults[0].text, r"lossy file: the frames of MP3 .*every 576 samples.* ends at 1[567]\.\d kHz")
        import soxr

        up = soxr.resample(music(44_100 * 4), 44_100, 96_000, quality="VHQ")
        faults = self.deep(up, subtype="PCM_24", rate=96_000).facts.faults
        self.assertIn("raised from 44.1 kHz", faults[0].text)

    def test_radio_cut_where_half_of_a_low_rate_lies_is_not_accused(self) -> None:
        from scipy import signal

        for cut_hz in (11_000, 12_000, 15_500, 16_000):
            taps = signal.firwin(511, cut_hz, fs=44_100)[:, None]
            noise = np.random.default_rng(cut_hz).normal(0, 0.05, (44_100 * 2, 2))
            found = self.deep(signal.fftconvolve(noise, taps, mode="same", axes=0), subtype="PCM_24")
            assert found.state is not None and found.state.edge is not None
            self.assertAlmostEqual(found.state.edge.frequency_hz, cut_hz, delta=400)
            self.assertEqual(found.facts.faults, ())

    def test_the_digest_that_a_maker_stored_is_held_against_the_samples(self) -> None:
        """MD5 in STREAMINFO (RFC 9639, 8.2), by an encoder of another library for each depth."""
        for subtype in ("PCM_S8", "PCM_16", "PCM_24"):
            path = write_sound(self.folder / f"{subtype}.flac", 9_001, subtype=subtype)
            self.assertEqual(inspect_deep(inspect_file(path)).facts.faults, (), subtype)
            data = bytearray(path.read_bytes())
            data[30] ^= 1
            path.write_bytes(data)
            faults = inspect_deep(inspect_file(path)).facts.faults
            self.assertEqual([str(p.code) for p in faults], ["damaged"], subtype)

    def test_damage_is_counted_placed_and_the_rest_saved(self) -> None:
        flac = write_sound(self.folder / "a.flac", 400_000)
        data = bytearray(flac.read_bytes())
        middle = len(data) // 2
        data[middle : middle + 40] = os.urandom(40)
        flac.write_bytes(data)
        found = inspect_deep(inspect_file(flac))
        self.assertEqual([str(p.code) for p in found.facts.faults], ["damaged"])
        outcome = convert_one(flac, "disc-wav", self.folder / "o")
        self.assertFalse(outcome.ok)
        self.assertIn("damaged", {str(warning.code) for warning in outcome.warnings})
        self.assertEqual(outcome.samples_out, 400_000)
        saved, whole = decoded(Path(outcome.step.output)), music(400_000)
        right = np.abs(saved / 2**31 - whole).max(axis=1) < 0.001
        self.assertGreater(right.mean(), 0.95)
        self.assertLess(right.mean(), 1.0)
        self.assertRegex(found.facts.faults[0].text, r"damaged frames?, the first at 0:0[345]")

    def test_flac_checksum(self) -> None:
        """RFC 9639: CRC-16 with polynomial 0x8005, start 0; 0xFEE8 over 123456789 is that of this kind (from memory)."""
        self.assertEqual(crc16(b"123456789"), 0xFEE8)
        self.assertEqual(crc16(b"123456789\xfe\xe8"), 0)

    def test_the_picture_has_a_fixed_size_whatever_the_length(self) -> None:
        for samples in (5_000, 441_000):
            picture = self.deep(music(samples)).picture
            assert picture is not None
            self.assertTrue(len(picture.lows) == len(picture.highs) <= 1000)
            self.assertTrue(0 < len(picture.spectrogram) <= 251)
            self.assertLess(min(picture.lows), -5_000)

    def test_a_faulty_file_is_told_and_not_raised(self) -> None:
        (self.folder / "x.flac").write_bytes(b"fLaC" + bytes(200))
        found = inspect_deep(inspect_file(self.folder / "x.flac"))
        self.assertTrue(found.facts.faults)
        self.assertEqual(carry_out(_refusal(self.folder / "x.flac")).ok, False)


def _refusal(path: Path):  # type: ignore[no-untyped-def]
    from rumbrel.core.forecast import plan_sound
    from rumbrel.core.targets import find_target

    return plan_sound(inspect_file(path), find_target("car-mp3"))
