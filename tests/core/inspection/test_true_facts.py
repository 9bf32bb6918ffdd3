"""Facts that were told wrongly: bitrates, channel modes, lengths that nobody stated, depths, rates, what is protected."""

import io
import struct
from pathlib import Path
from unittest import mock

import av
import mutagen.flac
import numpy as np
import soundfile
from PIL import Image

from rumbrel.core.conversion import carry_out
from rumbrel.core.conversion.check import coded_sound
from rumbrel.core.encoders.rewrap import rewrap_for, rewrap_sound
from rumbrel.core.forecast import WarningCode, forecast_batch, gather_sources
from rumbrel.core.formats.table import SOUND_SUFFIXES
from rumbrel.core.inspection import Facts, FaultCode, inspect_deep, inspect_file, peaks
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.core.inspection.test_deep import one_bit_file
from tests.signals import convert_one, decoded, music, write_framed, write_sound

SAMPLES = 44_100 * 3


class PeakTests(FolderCase):
    def test_peaks_beyond_full_scale_are_known_before_anything_is_made(self) -> None:
        sound = np.outer(1.4125 * np.sin(np.arange(SAMPLES) / 9), [0.3, 1])
        for name, subtype in (("a.wav", "FLOAT"), ("b.wav", "DOUBLE"), ("c.aiff", "FLOAT"), ("d.caf", "FLOAT")):
            path = write_sound(self.folder / name, sound=sound, subtype=subtype)
            for most_bytes in (2**26, 0):
                # Sound that is too long to be read is taken at its header's word, where that says one.
                with (
                    self.subTest(name=name, most_bytes=most_bytes),
                    mock.patch.object(peaks, "_MOST_READ_BYTES", most_bytes),
                ):
                    codes = [fault.code for fault in inspect_file(path).faults]
                    known = most_bytes or name != "d.caf"
                    self.assertEqual(codes, [FaultCode.BEYOND_FULL_SCALE] if known else [])
        for target, warned in (("car-mp3", True), ("disc-wav", True), ("open-opus", True)):
            (step,) = forecast_batch(gather_sources([self.folder / "a.wav"]), find_target(target), self.out).steps
            said = [each.text for each in step.warnings if each.code is WarningCode.CLIPPING]
            self.assertEqual(bool(said), warned, target)
            self.assertIn("3.0 dB beyond full scale", said[0])
        quiet = write_sound(self.folder / "e.wav", sound=sound / 1.4125, subtype="FLOAT")
        self.assertEqual(inspect_file(quiet).faults, ())
        # Of decoded sound only a decode tells.
        loud = write_sound(self.folder / "f.ogg", sound=sound / 1.3, subtype="VORBIS")
        deep = inspect_deep(inspect_file(loud)).facts
        self.assertEqual([fault.code for fault in deep.faults], [FaultCode.BEYOND_FULL_SCALE])


class BitrateTests(FolderCase):
    def test_mp3_is_told_by_its_music_and_not_by_its_information_frame(self) -> None:
        """An information frame of 64 kbit/s (11172-3, 2.4.2.3: bitrate index 5) in plain stereo before frames of 128."""
        made = Path(convert_one(write_sound(self.folder / "a.wav", SAMPLES), "radio-mp3", self.out).step.output)
        data = bytearray(made.read_bytes())
        start = data.index(b"\xff\xfb")
        info = bytearray(data[start : start + 208])
        info[2], info[3] = 0x50 | info[2] & 0x0F & ~2, info[3] & 0x3F
        at = info.index(b"Info")
        whole = len(data) - start
        frame_bytes = 417
        struct.pack_into(">I", info, at + 12, whole - frame_bytes + len(info))
        other = self.folder / "b.mp3"
        other.write_bytes(data[:start] + info + data[start + frame_bytes :])
        for path in (made, other):
            facts = inspect_file(path)
            self.assertEqual((facts.bitrate_bps, facts.channel_mode), (128_000, "joint stereo"), path.name)

    def test_covers_and_headers_are_no_bitrate(self) -> None:
        plain = write_sound(self.folder / "a.flac", SAMPLES)
        covered = write_sound(self.folder / "b.flac", SAMPLES)
        tags, noise = mutagen.flac.FLAC(covered), io.BytesIO()
        Image.fromarray(np.random.default_rng(1).integers(0, 255, (800, 800, 3), dtype=np.uint8)).save(noise, "PNG")
        picture = mutagen.flac.Picture()
        picture.data, picture.mime, picture.type = noise.getvalue(), "image/png", 3
        tags.add_picture(picture)
        tags.save()
        self.assertGreater(covered.stat().st_size, 2 * plain.stat().st_size)
        self.assertEqual(inspect_file(covered).bitrate_bps, inspect_file(plain).bitrate_bps)
        short, long = (write_sound(self.folder / f"{n}.ogg", n, subtype="VORBIS") for n in (4_000, SAMPLES))
        self.assertLess(inspect_file(short).bitrate_bps, 3 * inspect_file(long).bitrate_bps)
        for suffix in ("wav", "caf"):
            path = write_sound(self.folder / f"f.{suffix}", 500, subtype="FLOAT")
            self.assertEqual(inspect_file(path).bitrate_bps, 44_100 * 2 * 32, suffix)


class LengthTests(FolderCase):
    def test_a_recording_from_a_pipe_is_whole_and_no_part(self) -> None:
        whole = write_sound(self.folder / "a.wav", 30_000).read_bytes()
        at = whole.index(b"data") + 4
        for number, stated in enumerate((0, 0xFFFFFFFF)):
            path = self.folder / f"{number}.wav"
            path.write_bytes(whole[:at] + struct.pack("<I", stated) + whole[at + 4 :])
            facts = inspect_file(path)
            self.assertEqual(
                (facts.samples, facts.ok, [str(f.code) for f in facts.faults]), (30_000, True, ["unfinished"])
            )
            (step,) = forecast_batch(gather_sources([path]), find_target("archive-flac"), self.out).steps
            outcome = carry_out(step)
            self.assertEqual((outcome.ok, outcome.partial, outcome.samples_out), (True, False, 30_000), outcome.error)
            path.write_bytes(path.read_bytes()[:-3])
            self.assertEqual([str(f.code) for f in inspect_file(path).faults], ["cut-short"])

    def test_half_a_frame_of_ac3_does_not_count(self) -> None:
        path = write_framed(self.folder / "a.ac3", "ac3", muxer="ac3")
        whole = inspect_file(path)
        path.write_bytes(path.read_bytes()[:-200])
        cut = inspect_file(path)
        self.assertEqual(whole.samples - cut.samples, 1536)
        self.assertTrue(cut.faults)

    def test_mp3_from_other_containers_is_as_long_in_every_reader(self) -> None:
        """Where nothing states the encoder's delay, libmpg123 and FFmpeg must leave out the same: nothing."""
        made = Path(convert_one(write_sound(self.folder / "a.wav", SAMPLES), "radio-mp3", self.out).step.output)
        for muxer in ("wav", "avi"):
            packed = self.folder / f"b.{muxer}"
            with av.open(str(made)) as reading, av.open(str(packed), "w", format=muxer) as writing:
                stream = writing.add_stream_from_template(reading.streams.audio[0])
                for packet in reading.demux(reading.streams.audio[0]):
                    if packet.dts is not None:
                        packet.stream = stream
                        writing.mux(packet)
            facts, result = inspect_file(packed), self.folder / f"{muxer}.mp3"
            row = rewrap_for("mp3", facts.container, ("mp3",))
            assert row is not None
            rewrap_sound(coded_sound(facts), result, row, progress=lambda at: None)
            other, _ = soundfile.read(result, always_2d=True)
            self.assertEqual((len(other), len(decoded(result))), (facts.samples, facts.samples), muxer)


class KindTests(FolderCase):
    def wav(self, *, bits: int, valid: int, order: str = "<") -> Path:
        """An extensible format chunk (WAVE_FORMAT_EXTENSIBLE) with as many valid bits, in either order of bytes."""
        frame = 2 * bits // 8
        guid = struct.pack(f"{order}IHH", 1, 0, 16) + bytes.fromhex("800000aa00389b71")
        form = struct.pack(f"{order}HHIIHHHHI", 0xFFFE, 2, 44_100, 44_100 * frame, frame, bits, 22, valid, 3) + guid
        sound = bytes(frame * 1_000)
        chunks = b"fmt " + struct.pack(f"{order}I", 40) + form + b"data" + struct.pack(f"{order}I", len(sound)) + sound
        path = self.folder / f"{bits}-{valid}{'r' if order == '>' else ''}.wav"
        path.write_bytes(
            (b"RIFF" if order == "<" else b"RIFX") + struct.pack(f"{order}I", 4 + len(chunks)) + b"WAVE" + chunks
        )
        return path

    def test_depths_that_lie_in_wider_samples_are_told_with_both(self) -> None:
        for bits, valid, wanted in (
            (24, 20, "20 in 24 bit"),
            (16, 12, "12 in 16 bit"),
            (32, 24, "24 in 32 bit"),
            (16, 16, "16 bit"),
        ):
            facts = inspect_file(self.wav(bits=bits, valid=valid))
            self.assertEqual((facts.depth_text, facts.samples), (wanted, 1_000))

    def test_the_other_order_of_bytes_has_extensible_chunks_too(self) -> None:
        facts = inspect_file(self.wav(bits=16, valid=16, order=">"))
        self.assertEqual((facts.container, facts.codec, facts.samples, facts.ok), ("rifx", "pcm", 1_000, True))

    def test_one_bit_sound_has_its_own_rate(self) -> None:
        facts = inspect_file(one_bit_file(self.folder / "a.dsf"))
        self.assertEqual((facts.coded_rate, facts.depth_text), (2_822_400, "1 bit"))
        self.assertEqual(Facts(path="a", sample_rate=44_100, bit_depth=16, codec="pcm").coded_rate, 44_100)

    def test_one_telephone_coding_is_not_taken_for_another(self) -> None:
        for bits in (16, 24, 32):
            path = self.folder / f"{bits}.wav"
            soundfile.write(path, music(8_000, rate=8_000, channels=1), 8_000, subtype=f"NMS_ADPCM_{bits}")
            facts = inspect_file(path)
            self.assertEqual((facts.codec, facts.sample_rate, facts.ok), ("nms-adpcm", 8_000, True), facts.faults)
            found, _ = soundfile.read(path, dtype="float64")
            np.testing.assert_allclose(decoded(path)[:, 0] / 2**31, found, atol=1e-4)

    def test_what_a_seller_protects_is_known_by_its_name_as_well(self) -> None:
        self.assertIn(".m4p", SOUND_SUFFIXES)
        made = Path(convert_one(write_sound(self.folder / "a.wav", 40_000), "pocket-aac", self.out).step.output)
        path = self.folder / "a.m4p"
        path.write_bytes(made.read_bytes().replace(b"mp4a", b"drms", 1))
        self.assertEqual([str(fault.code) for fault in inspect_file(path).faults], ["protected"])
