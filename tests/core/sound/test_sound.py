"""The stages of sound: mixing, cutting, quantising, digests, decoding in blocks of any size."""

import struct
import tempfile
from pathlib import Path
from unittest import TestCase

import av
import numpy as np
import soundfile
from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.containers.flac_frames import crc16, last_frame_end
from rumbrel.core.containers.mpeg_frames import build_header, find_first_frame, info_frame_size, parse_header
from rumbrel.core.errors import DecodeError, EncodeError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.analysis import EndsFinder, StateMeter
from rumbrel.core.sound.decoding import StreamChoice, open_sound
from rumbrel.core.sound.digest import SampleDigest
from rumbrel.core.sound.level import LevelMeter
from rumbrel.core.sound.picture import PictureMaker
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Cut, Treatment, build_chain, mix_matrix
from tests.marks import slow
from tests.signals import convert_one, decoded, music, write_framed, write_sound


def shape(rate: int = 44_100, channels: int = 2, depth: int = 16) -> SoundShape:
    return SoundShape(sample_rate=rate, channels=channels, depth_bits=depth)


def pushed(chain, sound: np.ndarray, sizes: list[int]) -> np.ndarray:  # type: ignore[no-untyped-def]
    """A sound through a chain in blocks of these sizes, over and over."""
    parts, at, turn = [], 0, 0
    while at < len(sound):
        size = sizes[turn % len(sizes)]
        parts.append(chain.push(sound[at : at + size]))
        at, turn = at + size, turn + 1
    return np.concatenate([*parts, *chain.finish()])


class ChainTests(TestCase):
    @slow
    @given(st.lists(st.integers(1, 5_000), min_size=1, max_size=5), st.sampled_from([44_100, 48_000, 22_050, 96_000]))
    @settings(max_examples=25, deadline=None)
    def test_the_size_of_blocks_does_not_matter(self, sizes: list[int], rate: int) -> None:
        """But for the dither, which is drawn by blocks: floating point has none."""
        sound = music(9_001).astype(np.float32)
        treatment = Treatment(highpass_hz=20, gain_db=-3)
        whole = pushed(build_chain(shape(depth=0), shape(rate, 1, 0), treatment), sound, [len(sound)])
        parts = pushed(build_chain(shape(depth=0), shape(rate, 1, 0), treatment), sound, sizes)
        self.assertEqual(len(whole), round(9_001 * rate / 44_100))
        np.testing.assert_allclose(parts, whole, atol=1e-6)

    @given(st.integers(0, 3_000), st.integers(0, 3_000), st.lists(st.integers(1, 900), min_size=1, max_size=4))
    @settings(max_examples=60, deadline=None)
    def test_cutting_is_exact(self, start: int, length: int, sizes: list[int]) -> None:
        sound = np.arange(4_000)[:, None]
        cut, parts, at, turn = Cut(start, start + length), [], 0, 0
        while at < len(sound):
            size = sizes[turn % len(sizes)]
            parts.append(cut.push(sound[at : at + size]))
            at, turn = at + size, turn + 1
        np.testing.assert_array_equal(np.concatenate(parts), sound[start : start + length])

    def test_surround_to_stereo_and_back_to_mono(self) -> None:
        """ITU-R BS.775: L + 0.7071 C + 0.7071 Ls (from memory)."""
        matrix = mix_matrix(6, 2)
        np.testing.assert_allclose(matrix[0], [1, 0, 0.7071, 0, 0.7071, 0], atol=1e-4)
        np.testing.assert_allclose(matrix[1], [0, 1, 0.7071, 0, 0, 0.7071], atol=1e-4)
        np.testing.assert_allclose(mix_matrix(2, 1), [[0.5, 0.5]])
        for channels in (3, 4, 5, 7, 8):
            self.assertEqual(mix_matrix(channels, 2).shape, (2, channels))
        for pair in ((2, 6), (9, 2), (1, 6)):
            with self.assertRaises(EncodeError):
                mix_matrix(*pair)

    def test_speakers_that_a_file_names_are_mixed_as_what_they_are(self) -> None:
        """The same four channels as L R Ls Rs and as L R C Cs; three as L R C and as L R LFE (masks of WAVE)."""
        c = 0.7071
        with tempfile.TemporaryDirectory() as folder:
            for mask, channels, left, right in (
                (0x33, 4, [1, 0, c, 0], [0, 1, 0, c]), (0x107, 4, [1, 0, c, 0.5], [0, 1, c, 0.5]),
                (0x7, 3, [1, 0, c], [0, 1, c]), (0xB, 3, [1, 0, 0], [0, 1, 0]), (0, 4, [1, 0, c, 0], [0, 1, 0, c]),
            ):  # fmt: skip
                values = np.eye(channels, dtype=np.int16).repeat(1000, axis=0) * 8000
                form = struct.pack(
                    "<HHIIHHHHI", 0xFFFE, channels, 44_100, 88_200 * channels, 2 * channels, 16, 22, 16, mask
                )
                form += bytes.fromhex("0100000000001000800000aa00389b71")
                body = b"WAVEfmt " + struct.pack("<I", len(form)) + form
                body += b"data" + struct.pack("<I", values.nbytes) + values.tobytes()
                path = Path(folder, f"{mask}.wav")
                path.write_bytes(b"RIFF" + struct.pack("<I", len(body)) + body)
                outcome = convert_one(path, "disc-wav", Path(folder, "out"))
                result = decoded(Path(outcome.step.output)) / 65_536 / 8000
                for channel in range(channels):
                    middle = result[channel * 1000 + 500]
                    np.testing.assert_allclose(middle, [left[channel], right[channel]], atol=2e-3, err_msg=f"{mask:x}")
                kept = convert_one(path, "archive-wavpack", Path(folder, "kept")).warnings
                usual = mask in (0, 0x33, 0x7)
                self.assertEqual("speakers" in {str(w.code) for w in kept}, not usual, f"{mask:x}")
                # Through FFmpeg, whose layouts have names.
                layout = {0x107: "4.0", 0xB: "2.1", 0x7: "3.0"}.get(mask)
                if layout:
                    other = Path(folder, f"{mask}.wv")
                    with av.open(str(other), "w", format="wv") as container:
                        stream = container.add_stream("wavpack", rate=44_100, layout=layout)
                        stream.codec_context.format = "s16p"
                        frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(values.T), format="s16p", layout=layout)
                        frame.sample_rate = 44_100
                        container.mux([*stream.encode(frame), *stream.encode(None)])
                    made = Path(convert_one(other, "disc-wav", Path(folder, "wv")).step.output)
                    np.testing.assert_array_equal(decoded(made), decoded(Path(outcome.step.output)))

    def test_what_needs_no_arithmetic_is_exact_and_the_rest_is_limited_and_counted(self) -> None:
        sound = np.array([[32_767, -32_768], [1, -1]], dtype=np.int16)
        widened = build_chain(shape(), shape(depth=24), Treatment())
        self.assertTrue(widened.is_exact)
        np.testing.assert_array_equal(widened.push(sound), sound.astype(np.int32) << 16)
        loud = build_chain(shape(), shape(), Treatment(gain_db=6))
        self.assertFalse(loud.is_exact)
        out = loud.push(np.repeat(sound[:1], 1_000, axis=0))
        self.assertEqual((out.max(), out.min(), loud.clipped_values), (32_767, -32_768, 2_000))

    def test_only_where_bits_are_lost_is_there_dither(self) -> None:
        """16 bit sound in a deeper or floating container comes out as it went in, and digital silence stays silent."""
        plain = np.random.default_rng(5).integers(-32_768, 32_768, (5_000, 2)).astype(np.int16)
        deep = build_chain(shape(depth=24), shape(), Treatment()).push(plain.astype(np.int32) << 16)
        np.testing.assert_array_equal(deep, plain)
        floating = build_chain(shape(depth=0), shape(), Treatment()).push(plain.astype(np.float32) / 32_768)
        np.testing.assert_array_equal(floating, plain)
        between = np.zeros((10_240, 2), dtype=np.int32)
        between[2_048:4_096] = 1 << 15
        out = build_chain(shape(depth=24), shape(), Treatment()).push(between)
        self.assertEqual(
            set(np.unique(out[2_048:4_096])), {-1, 0, 1, 2} & set(np.unique(out)), "half a step is dithered"
        )
        self.assertGreater(len(np.unique(out[2_048:4_096])), 1)
        self.assertFalse(out[:2_048].any() or out[4_096:].any())

    def test_the_same_input_gives_the_same_output(self) -> None:
        sound = (music(5_000) * 2**30).astype(np.int32)
        first, second = (build_chain(shape(depth=24), shape(48_000), Treatment()) for _ in range(2))
        np.testing.assert_array_equal(pushed(first, sound, [777]), pushed(second, sound, [777]))


class MeterTests(TestCase):
    @slow
    @given(st.lists(st.integers(1, 20_000), min_size=1, max_size=5))
    @settings(max_examples=8, deadline=None)
    def test_meters_do_not_care_for_the_size_of_blocks(self, sizes: list[int]) -> None:
        sound = np.concatenate([np.zeros((700, 2)), np.clip(music(60_000) * 3, -1, 1), np.zeros((900, 2))])
        results = []
        for blocks in ([len(sound)], sizes):
            level, state, ends = LevelMeter(shape(depth=0)), StateMeter(shape(depth=0)), EndsFinder()
            at = turn = 0
            while at < len(sound):
                size = blocks[turn % len(blocks)]
                for meter in (level, state, ends):
                    meter.push(sound[at : at + size])
                at, turn = at + size, turn + 1
            results.append((level.level(), state.state().clipped_runs, state.state().channels, ends.ends()))
        (level_a, *rest_a), (level_b, *rest_b) = results
        self.assertEqual(rest_a, rest_b)
        for name in ("integrated_lufs", "range_lu", "true_peak_dbtp", "sample_peak_dbfs"):
            self.assertAlmostEqual(getattr(level_a, name), getattr(level_b, name), places=6)

    def test_pictures_hold_every_extreme(self) -> None:
        sound = np.zeros((50_000, 1))
        sound[12_345], sound[40_000] = 0.9, -0.8
        maker = PictureMaker(shape(channels=1, depth=0), len(sound))
        for start in range(0, len(sound), 999):
            maker.push(sound[start : start + 999])
        picture = maker.picture()
        self.assertEqual((max(picture.highs), min(picture.lows)), (round(0.9 * 32_767), round(-0.8 * 32_767)))
        self.assertEqual(picture.highs.index(max(picture.highs)), 12_345 // 50)

    def test_a_tone_stands_in_its_band(self) -> None:
        tone = 0.5 * np.sin(2 * np.pi * 1_000 * np.arange(44_100) / 44_100)[:, None]
        maker = PictureMaker(shape(channels=1, depth=0), len(tone))
        maker.push(tone)
        picture = maker.picture()
        row = picture.spectrogram[3]
        place = row.index(max(row))
        self.assertTrue(picture.band_edges_hz[place] * 0.9 <= 1_000 <= picture.band_edges_hz[place + 1] * 1.1)
        self.assertAlmostEqual(max(row), -6, delta=3)

    def test_digests_tell_equal_sounds_in_different_depths(self) -> None:
        sound = (music(3_000) * 30_000).astype(np.int16)
        narrow, wide = SampleDigest(32), SampleDigest(32)
        narrow.push(sound)
        wide.push(sound.astype(np.int32) << 16)
        self.assertEqual(narrow.hexdigest(), wide.hexdigest())
        other = SampleDigest(32)
        sound[2_999, 1] ^= 1
        other.push(sound)
        self.assertNotEqual(other.hexdigest(), narrow.hexdigest())
        with self.assertRaises(ValueError):
            SampleDigest(16).push(sound.astype(np.int32))


class FrameTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_headers_of_every_rate_and_bitrate_come_back(self) -> None:
        for rate, rates_kbps in ((44_100, (32, 128, 320)), (48_000, (192,)), (22_050, (8, 64, 160)), (8_000, (8, 64))):
            for kbps in rates_kbps:
                for mono in (False, True):
                    header = build_header(sample_rate=rate, bitrate_kbps=kbps, mono=mono)
                    self.assertEqual((header.sample_rate, header.bitrate_kbps), (rate, kbps))
                    self.assertEqual(header.mode == "mono", mono)
                    self.assertGreaterEqual(info_frame_size(header), 4 + header.side_bytes + 156)
        for rate, kbps in ((44_100, 8), (11_025, 320), (96_000, 128)):
            with self.assertRaises(ValueError):
                build_header(sample_rate=rate, bitrate_kbps=kbps, mono=False)
        self.assertIsNone(parse_header(b"\xff\xff\xff\xff"))
        self.assertIsNone(find_first_frame(b"\xff" * 1_000))

    @given(st.binary(min_size=1, max_size=400))
    @settings(max_examples=60, deadline=None)
    def test_the_checksum_by_pairs_equals_the_one_bit_by_bit(self, data: bytes) -> None:
        crc = 0
        for byte in data:
            crc ^= byte << 8
            for _ in range(8):
                crc = (crc << 1 ^ 0x8005) & 0xFFFF if crc & 0x8000 else crc << 1 & 0xFFFF
        self.assertEqual(crc16(data), crc)

    def test_a_flac_cut_anywhere_in_its_last_frame_is_noticed(self) -> None:
        for blocks in (1, 3):
            path = write_sound(self.folder / f"{blocks}.flac", 4_096 * blocks + 100)
            data = path.read_bytes()
            self.assertEqual(last_frame_end(data[-60_000:], 4_096), 4_096 * blocks + 100)
            for cut in (1, 2, 17, 100):
                self.assertIsNone(last_frame_end(data[-60_000:-cut], 4_096))
                path.write_bytes(data[:-cut])
                self.assertIn("cut-short", [str(p.code) for p in inspect_file(path).faults])


class DecoderTests(TestCase):
    setUp = FrameTests.setUp

    def test_both_decoders_say_the_same_of_plain_files(self) -> None:
        """libsndfile's way and FFmpeg's way through the same file."""
        for subtype in ("PCM_U8", "PCM_16", "PCM_24", "PCM_32", "FLOAT"):
            path = write_sound(self.folder / f"{subtype}.wav", 9_001, subtype=subtype)
            facts = inspect_file(path)
            plain = decoded(path)
            other = self.folder / f"{subtype}.mka"
            _rewrap_plain(path, other)
            with open_sound(other, StreamChoice(container="matroska", depth_bits=facts.bit_depth or 0)) as sound:
                blocks = np.concatenate(list(sound.blocks()))
            scale = {"int16": 65_536.0, "int32": 1.0}.get(blocks.dtype.name, 2.0**31)
            np.testing.assert_array_equal(blocks.astype(np.float64) * scale, plain, subtype)

    def test_counting_and_reading_agree(self) -> None:
        wav = write_sound(self.folder / "a.wav", 50_001)
        paths = [wav, *(Path(convert_one(wav, slug, self.folder / slug).step.output)
                        for slug in ("archive-flac", "car-mp3", "pocket-aac", "open-opus", "open-vorbis", "table-radio-wma"))]  # fmt: skip
        paths.append(write_framed(self.folder / "a.ac3", "ac3", muxer="ac3"))
        for path in paths:
            choice = inspect_file(path).choice()
            with open_sound(path, choice) as counting, open_sound(path, choice) as reading:
                self.assertEqual(sum(counting.lengths()), sum(map(len, reading.blocks())), path.name)

    def test_files_that_are_none(self) -> None:
        (self.folder / "x.mp3").write_bytes(b"nothing" * 500)
        for path, choice in (
            (self.folder / "absent.wav", StreamChoice(container="wav", depth_bits=16)),
            (self.folder / "x.mp3", StreamChoice(container="mp3", depth_bits=0)),
            (write_sound(self.folder / "a.flac"), StreamChoice(container="flac", depth_bits=16, sound_index=3)),
        ):
            with self.assertRaises(DecodeError) as caught:
                open_sound(path, choice)
            self.assertTrue(str(caught.exception).endswith("."))

    def test_older_files_without_an_information_frame_are_walked(self) -> None:
        mp3 = Path(convert_one(write_sound(self.folder / "a.wav", 100_000), "car-mp3", self.folder).step.output)
        data = mp3.read_bytes()
        header = parse_header(data[:4])
        assert header is not None
        bare = data[header.size_bytes :]
        for name, content in (
            ("bare.mp3", bare),
            ("tail.mp3", bare + b"TAG" + bytes(125)),
            ("junk.mp3", b"\0" * 777 + bare),
        ):
            (self.folder / name).write_bytes(content)
            facts = inspect_file(self.folder / name)
            frames = len(bare) / (144 * 320_000 / 44_100)
            self.assertAlmostEqual(facts.samples, frames * 1152, delta=1_152, msg=name)
            self.assertEqual((facts.bitrate_mode, facts.bitrate_bps // 1000), ("constant", 320))
            self.assertIsNone(facts.delay_samples)

    def test_a_whole_disc_image_reads_as_bare_samples(self) -> None:
        raw = (music(588 * 3) * 30_000).astype("<i2")
        (self.folder / "d.bin").write_bytes(raw.tobytes())
        with open_sound(self.folder / "d.bin", StreamChoice(container="disc-image", depth_bits=16)) as sound:
            np.testing.assert_array_equal(np.concatenate(list(sound.blocks())), raw)

    def test_plain_containers_cut_short_are_told_with_what_is_left(self) -> None:
        for suffix, subtype in ((".wav", "PCM_24"), (".aiff", "PCM_16"), (".wav", "ULAW")):
            whole = write_sound(self.folder / f"w{suffix}", 60_000, subtype=subtype)
            data = whole.read_bytes()
            cut = self.folder / f"cut{suffix}"
            cut.write_bytes(data[: len(data) // 3])
            facts = inspect_file(cut)
            self.assertEqual([str(p.code) for p in facts.faults], ["cut-short"], subtype)
            self.assertAlmostEqual(facts.samples, 20_000, delta=100)
            sound, _ = soundfile.read(cut)
            self.assertEqual(len(sound), facts.samples)


def _rewrap_plain(source: Path, result: Path) -> None:
    import av

    with av.open(str(source)) as reading, av.open(str(result), "w", format="matroska") as writing:
        stream = writing.add_stream_from_template(reading.streams.audio[0])
        for packet in reading.demux(reading.streams.audio[0]):
            if packet.dts is not None:
                packet.stream = stream
                writing.mux(packet)
