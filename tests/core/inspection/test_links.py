"""Several streams one after another in a file: all are read, or it is said what is not."""

import struct
from pathlib import Path

import av
import numpy as np
import soundfile

from rumbrel.core.conversion import carry_out
from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.forecast import Action, Source, forecast_batch
from rumbrel.core.inspection import FaultCode, inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import decoded, music, write_sound

LENGTHS = (70_000, 48_011, 91_237)


class LinkTests(FolderCase):
    def piece(self, key: str, samples: int, *, channels: int = 2, rate: int = 48_000, seed: int = 1) -> bytes:
        encoding = encoding_for(key)
        depth = encoding.depths[0] if encoding.depths else 0
        sound = music(samples, rate=rate, channels=channels, seed=seed)
        block = (sound * 32767).astype(np.int16) if depth == 16 else sound.astype(np.float32)
        path = self.folder / f"piece{encoding.suffix}"
        encoder = encoding.open(
            path, SoundShape(sample_rate=rate, channels=channels, depth_bits=depth), EncoderSettings()
        )
        encoder.write(block)
        encoder.finish()
        return path.read_bytes()

    def test_equal_streams_are_read_to_the_end(self) -> None:
        """RFC 3533, 4, for Ogg; joining MP3 files with their tags is common practice."""
        id3 = b"ID3\x04\0\0\0\0\0\x0aTIT2\0\0\0\0\0\0"
        for key, before, behind in (
            ("vorbis", b"", b""), ("opus", b"", b""), ("mp3", id3, b"TAG" + bytes(125)), ("mp3", b"", b""),
            ("mp3", b"", b"TAG" + bytes(125)), ("mp3", id3, b""),
        ):  # fmt: skip
            with self.subTest(key=key, before=len(before), behind=len(behind)):
                pieces = [self.piece(key, n, seed=s) for s, n in enumerate(LENGTHS, 1)]
                path = self.folder / f"joined{encoding_for(key).suffix}"
                path.write_bytes(b"".join(before + piece + behind for piece in pieces))
                facts = inspect_file(path)
                self.assertEqual((facts.samples, len(facts.links), facts.faults), (sum(LENGTHS), 3, ()))
                sound = decoded(path)
                self.assertEqual(len(sound), sum(LENGTHS))
                at = 0
                for seed, length in enumerate(LENGTHS, 1):
                    wanted = music(length, rate=48_000, seed=seed)
                    part = sound[at : at + length].astype(float)
                    likeness = np.corrcoef(part[2_000:-2_000, 0], wanted[2_000:-2_000, 0])[0, 1]
                    self.assertGreater(likeness, 0.95, (seed, at))
                    at += length

    def test_the_same_stream_twice_is_two(self) -> None:
        for key in ("vorbis", "opus", "mp3"):
            path = self.folder / f"twice{encoding_for(key).suffix}"
            path.write_bytes(self.piece(key, 700_000) * 2)
            self.assertEqual(inspect_file(path).samples, 1_400_000, key)

    def test_one_stream_is_one(self) -> None:
        for key in ("vorbis", "opus", "mp3"):
            path = self.folder / f"one{encoding_for(key).suffix}"
            path.write_bytes(self.piece(key, 300_000))
            self.assertEqual((inspect_file(path).links, inspect_file(path).samples), ((), 300_000), key)

    def test_what_cannot_be_joined_is_said_and_the_result_is_in_part(self) -> None:
        for key in ("vorbis", "opus", "mp3"):
            with self.subTest(key=key):
                first, other = self.piece(key, 200_000), self.piece(key, 90_000, channels=1)
                path = self.folder / f"mixed{encoding_for(key).suffix}"
                path.write_bytes(first + other)
                facts = inspect_file(path)
                self.assertEqual(facts.samples, 200_000)
                self.assertEqual([str(fault.code) for fault in facts.faults], ["other-part"])
                self.assertIn("0 min 4 s is", facts.faults[0].text)
                self.assertFalse(facts.ok)
                source = Source(id=0, path=path, relative=path.relative_to(self.folder))
                step = forecast_batch([source], find_target("archive-flac"), self.folder / "out" / key).steps[0]
                self.assertEqual(step.action, Action.CONVERT)
                outcome = carry_out(step)
                self.assertEqual(
                    (outcome.ok, outcome.partial, outcome.samples_out), (False, True, 200_000), outcome.error
                )


class WrongHeaderTests(FolderCase):
    """Recorders that were interrupted leave headers that state no length, or an old one (common practice)."""

    def wav(self, name: str, samples: int = 120_000, **more: object) -> Path:
        return write_sound(self.folder / name, samples, **more)

    def test_sizes_of_nothing_are_read_to_the_end_and_said(self) -> None:
        for name, subtype, places in (
            ("a.wav", "PCM_16", (4, 40)), ("b.wav", "PCM_24", (4, 40)), ("c.aiff", "PCM_16", None), ("d.wav", "PCM_U8", (4, 40)),
        ):  # fmt: skip
            with self.subTest(name=name):
                path = self.wav(name, subtype=subtype)
                whole = decoded(path)
                raw = bytearray(path.read_bytes())
                if places is None:
                    at = raw.index(b"COMM") + 10
                    places = (at, raw.index(b"SSND") + 4)
                for place in places:
                    raw[place : place + 4] = bytes(4)
                path.write_bytes(raw)
                facts = inspect_file(path)
                self.assertEqual((facts.samples, [str(f.code) for f in facts.faults]), (len(whole), ["unfinished"]))
                self.assertIn("all 0 min 3 s that lie in the file are read", facts.faults[0].text)
                self.assertTrue(np.array_equal(decoded(path), whole))

    def test_a_size_that_is_too_small_hides_nothing(self) -> None:
        path = self.wav("half.wav")
        whole = decoded(path)
        raw = bytearray(path.read_bytes())
        raw[40:44] = (len(whole) // 2 * 4).to_bytes(4, "little")
        path.write_bytes(raw)
        facts = inspect_file(path)
        self.assertEqual((facts.samples, [str(f.code) for f in facts.faults]), (len(whole), ["unfinished"]))
        self.assertIn("The header states 0 min 1 s, but 0 min 3 s", facts.faults[0].text)
        self.assertTrue(np.array_equal(decoded(path), whole))

    def test_other_containers_are_read_to_the_end_too(self) -> None:
        """Where the length stands: W64 behind its data chunk's 16 byte name, CAF behind four, RF64 in ds64 (EBU Tech
        3306), AU in its third word, AIFF in COMM and SSND. CAF and AU may leave it open with all ones."""
        layouts = {
            "W64": (b"data\xf3", ((16, "<Q"),), 24), "CAF": (b"data", ((4, ">Q"),), 0), "AU": (b".snd", ((8, ">I"),), 0),
            "RF64": (b"ds64", ((16, "<Q"),), 0), "AIFF": (b"SSND", ((4, ">I"),), 0),
        }  # fmt: skip
        for form, (mark, places, more) in layouts.items():
            for subtype in ("PCM_16", "FLOAT"):
                path = self.folder / f"x.{'wav' if form == 'RF64' else form.lower()}"
                soundfile.write(path, music(120_000), 44_100, format=form, subtype=subtype)
                whole, raw = decoded(path), path.read_bytes()
                open_end = form in ("CAF", "AU")
                for stated, faults in (
                    (0, ["unfinished"]),
                    (20_000, ["unfinished"]),
                    (-1, [] if open_end else ["unfinished"]),
                ):
                    with self.subTest(form=form, subtype=subtype, stated=stated):
                        changed = bytearray(raw)
                        for offset, kind in places:
                            most = (1 << 8 * struct.calcsize(kind)) - 1
                            struct.pack_into(
                                kind,
                                changed,
                                raw.index(mark) + offset,
                                (stated + more if stated > 0 else stated) & most,
                            )
                        path.write_bytes(changed)
                        facts = inspect_file(path)
                        found = [str(fault.code) for fault in facts.faults if fault.code != FaultCode.TAGS_UNREADABLE]
                        self.assertEqual((facts.samples, found), (len(whole), faults))
                        if faults:
                            said = "The header states 0 min 0 s" if stated > 0 else "The header states no length"
                            self.assertIn(said, facts.faults[0].text)
                        self.assertTrue(np.array_equal(decoded(path), whole))

    def test_chunks_behind_the_sound_are_no_sound(self) -> None:
        path = self.wav("tagged.wav")
        whole = len(decoded(path))
        path.write_bytes(path.read_bytes() + b"junk" + (8_000).to_bytes(4, "little") + b"\x7f" * 8_000)
        self.assertEqual((inspect_file(path).samples, inspect_file(path).faults), (whole, ()))

    def test_a_few_stray_bytes_behind_the_sound_are_none(self) -> None:
        path = self.wav("stray.wav")
        whole = len(decoded(path))
        path.write_bytes(path.read_bytes() + b"\x01\xfe" * 900)
        self.assertEqual((inspect_file(path).samples, inspect_file(path).faults), (whole, ()))

    def test_a_fragmented_file_is_whole_and_a_cut_one_is_cut(self) -> None:
        """ISO/IEC 14496-12, 8.8."""
        path = self.folder / "parts.m4a"
        sound = music(200_000, rate=48_000)
        options = {"movflags": "frag_keyframe+empty_moov+default_base_moof", "frag_duration": "500000"}
        with av.open(str(path), "w", format="mp4", container_options=options) as container:
            stream = container.add_stream("aac", rate=48_000, layout="stereo")
            frame = av.AudioFrame.from_ndarray(sound.T.astype(np.float32).copy(), format="fltp", layout="stereo")
            frame.sample_rate = 48_000
            for part in (frame, None):
                for packet in stream.encode(part):
                    container.mux(packet)
        self.assertGreater(path.read_bytes().count(b"moof"), 3)
        facts = inspect_file(path)
        self.assertEqual(facts.faults, ())
        self.assertLess(abs(facts.samples - 200_000), 2_100)
        path.write_bytes(path.read_bytes()[:-5_000])
        self.assertEqual([str(fault.code) for fault in inspect_file(path).faults], ["cut-short"])
