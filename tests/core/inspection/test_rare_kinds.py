"""Kinds that few programs write: RIFX, one bit sound packed as DST, W64 with more behind its sound, and ADIF."""

import struct
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.conversion import carry_out
from rumbrel.core.forecast import Action, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import decoded, music

RATE, FRAME_BYTES = 2_822_400, 2_822_400 // 75 // 8 * 2


def chunk(name: bytes, body: bytes) -> bytes:
    return name + struct.pack(">Q", len(body)) + body + bytes(len(body) % 2)


def dsdiff(path: Path, kind: bytes, sound: bytes) -> Path:
    """A file of stereo one bit sound (DSDIFF 1.5, from memory)."""
    prop = b"SND " + chunk(b"FS  ", struct.pack(">I", RATE)) + chunk(b"CHNL", struct.pack(">H", 2) + b"SLFTSRGT")
    prop += chunk(b"CMPR", kind + b"\x04ours\0")
    body = b"DSD " + chunk(b"FVER", struct.pack(">I", 0x01050000)) + chunk(b"PROP", prop) + sound
    path.write_bytes(b"FRM8" + struct.pack(">Q", len(body)) + body)
    return path


class RareKindTests(FolderCase):
    def test_rifx_is_no_wav_and_is_read_like_one(self) -> None:
        values = music(20_000)
        for subtype, codec in (
            ("PCM_16", "pcm"),
            ("PCM_24", "pcm"),
            ("PCM_U8", "pcm"),
            ("FLOAT", "pcm-float"),
            ("ULAW", "mu-law"),
        ):
            path = self.folder / f"{subtype}.wav"
            soundfile.write(path, values, 44_100, subtype=subtype, format="WAV", endian="BIG")
            facts = inspect_file(path)
            self.assertEqual((facts.container, facts.codec, facts.samples, facts.faults), ("rifx", codec, 20_000, ()))
            step = forecast_batch(gather_sources([path]), find_target("disc-wav"), self.folder / "out").steps[0]
            self.assertEqual(step.action, Action.CONVERT, "players of WAV do not know it")
            self.assertTrue(carry_out(step).ok)
        cut = self.folder / "cut.wav"
        data = (self.folder / "PCM_16.wav").read_bytes()
        cut.write_bytes(data[:40] + bytes(4) + data[44:])
        facts = inspect_file(cut)
        self.assertEqual((facts.samples, facts.faults[0].code), (20_000, "unfinished"))
        np.testing.assert_array_equal(decoded(cut), decoded(self.folder / "PCM_16.wav"))

    def test_frames_of_dst_that_are_not_packed_are_refused(self) -> None:
        """Behind a byte that says so, a frame may hold its bits as they are; FFmpeg's decoder takes them for others."""
        bits = np.random.default_rng(5).integers(0, 256, (3, FRAME_BYTES), dtype=np.uint8)
        frames = b"".join(chunk(b"DSTF", b"\0" + frame.tobytes()) for frame in bits)
        path = dsdiff(
            self.folder / "dst.dff", b"DST ", chunk(b"DST ", chunk(b"FRTE", struct.pack(">IH", 3, 75)) + frames)
        )
        facts = inspect_file(path)
        self.assertEqual((facts.container, [fault.code for fault in facts.faults]), ("dff", ["unreadable"]))
        self.assertIn("3 frames", facts.faults[0].text)
        packed = path.read_bytes().replace(b"DSTF" + struct.pack(">Q", FRAME_BYTES + 1) + b"\0",
                                           b"DSTF" + struct.pack(">Q", FRAME_BYTES + 1) + b"\x80")  # fmt: skip
        path.write_bytes(packed)
        facts = inspect_file(path)
        self.assertEqual((facts.codec, facts.lossless), ("dst", True))

    def test_what_lies_behind_the_sound_of_w64_is_no_sound(self) -> None:
        path = self.folder / "a.w64"
        soundfile.write(path, music(20_000), 44_100, subtype="PCM_16", format="W64")
        plain = decoded(path)
        note = b"note\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a" + struct.pack("<Q", 424) + bytes(400)
        path.write_bytes(path.read_bytes() + note)
        facts = inspect_file(path)
        self.assertEqual((facts.samples, facts.faults), (20_000, ()))
        np.testing.assert_array_equal(decoded(path), plain)

    def test_what_cannot_be_read_is_named_in_our_words(self) -> None:
        for name, data, word in (
            ("a.aac", b"ADIF" + bytes(range(256)) * 20, "ADIF"), ("b.mid", b"MThd" + bytes(60), "MIDI"),
            ("c.mp3", b"no sound at all, only words " * 40, "of another kind"), ("d.flac", b"fLaC" + bytes(8), "sound"),
        ):  # fmt: skip
            (self.folder / name).write_bytes(data)
            said = " ".join(fault.text for fault in inspect_file(self.folder / name).faults)
            self.assertIn(word, said, name)
            self.assertNotRegex(said, r"FFmpeg|libsnd|Errno|\[|avcodec|patches", name)
