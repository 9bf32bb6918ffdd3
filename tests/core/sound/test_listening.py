"""Sound as browsers get it: every sample of the source, in a WAV file that other readers take."""

import io
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile

from rumbrel.core.errors import DecodeError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.listening import ListeningShape, write_listening
from rumbrel.core.workflows.listen import Decoders, heard_as_is
from tests.core.case import FolderCase
from tests.signals import decoded, music, write_framed, write_sound


def shape_of(path: Path) -> ListeningShape:
    facts = inspect_file(path)
    return ListeningShape.of(facts.sample_rate, facts.channels, facts.samples, facts.bit_depth)


class ListeningTests(FolderCase):
    def heard(self, path: Path) -> Path:
        output = self.folder / "heard" / "x.wav"
        write_listening(path, inspect_file(path).choice(), shape_of(path), output)
        self.assertEqual(output.stat().st_size, shape_of(path).total_bytes)
        self.assertEqual([each.name for each in output.parent.iterdir()], ["x.wav"])
        return output

    def test_whole_numbers_come_as_they_are(self) -> None:
        for name, subtype, channels in (
            ("a.flac", "PCM_16", 2),
            ("b.aiff", "PCM_24", 1),
            ("c.wav", "PCM_U8", 2),
            ("d.flac", "PCM_24", 6),
        ):
            with self.subTest(name=name, subtype=subtype):
                path = write_sound(self.folder / name, 30_001, subtype=subtype, channels=channels)
                found, rate = soundfile.read(self.heard(path), dtype="int32", always_2d=True)
                self.assertEqual(rate, 44_100)
                self.assertTrue(np.array_equal(found, decoded(path)))

    def test_floating_point_is_rounded_and_held_at_full_scale(self) -> None:
        sound = music(3_000) * 0.2
        sound[:3] = [[1.5, -1.5], [1.0, -1.0], [2**-23 * 0.6, -(2**-23) * 0.4]]
        path = self.folder / "f.wav"
        soundfile.write(path, sound, 44_100, subtype="DOUBLE")
        found = soundfile.read(self.heard(path), dtype="int32")[0] >> 8
        self.assertEqual(found[:3].tolist(), [[2**23 - 1, -(2**23)], [2**23 - 1, -(2**23)], [1, 0]])
        self.assertTrue(np.array_equal(found[3:], np.rint(sound[3:] * 2**23).astype(int)))

    def test_what_a_damaged_file_lacks_is_silence(self) -> None:
        path = write_sound(self.folder / "cut.flac", 200_000)
        shape, choice = shape_of(path), inspect_file(path).choice()
        path.write_bytes(path.read_bytes()[:60_000])
        output = self.folder / "x.wav"
        write_listening(path, choice, shape, output)
        found = soundfile.read(output, dtype="int16")[0]
        self.assertEqual(len(found), 200_000)
        self.assertFalse(found[-1_000:].any())
        self.assertTrue(found[:1_000].any())

    def test_what_is_too_long_for_one_file_is_said(self) -> None:
        hour = 3_800 * 192_000
        self.assertEqual(ListeningShape.of(192_000, 2, hour, 24).depth_bits, 16, "24 bit would pass 4 GiB")
        self.assertEqual(ListeningShape.of(48_000, 2, hour // 4, None).depth_bits, 24)
        with self.assertRaisesRegex(DecodeError, "too long"):
            ListeningShape.of(192_000, 2, 2 * hour, 24)


class DecoderTests(FolderCase):
    def read(self, decoders: Decoders, path: Path) -> bytes:
        hearing, pieces = decoders.hearing(inspect_file(path), path.stem), []
        while (at := sum(map(len, pieces))) < hearing.total_bytes:
            pieces.append(decoders.read(hearing, at, min(at + 70_000, hearing.total_bytes), patience_seconds=30))
        return b"".join(pieces)

    def settle(self, decoders: Decoders) -> None:
        for running in decoders._running.values():
            running.process.wait(timeout=30)

    def test_read_while_it_grows_and_from_its_middle(self) -> None:
        path = self.folder / "a.wma"
        write_framed(path, "wmav2", muxer="asf", rate=44_100, seconds=20)
        decoders = Decoders(self.folder / "listening")
        hearing = decoders.hearing(inspect_file(path), path.stem)
        middle = hearing.total_bytes // 2
        piece = decoders.read(hearing, middle, middle + 600, patience_seconds=30)
        raw = self.read(decoders, path)
        self.assertEqual(raw[middle : middle + len(piece)], piece)
        found = soundfile.read(io.BytesIO(raw), dtype="int32")[0] >> 8
        right = np.clip(np.rint(decoded(path) / 2**31 * 2**23), -(2**23), 2**23 - 1)
        self.assertEqual(len(found), inspect_file(path).samples)
        self.assertLessEqual(np.abs(found - right[: len(found)]).max(), 1)

    def test_what_does_not_decode_says_why(self) -> None:
        path = write_sound(self.folder / "a.flac", 50_000)
        decoders, facts = Decoders(self.folder / "listening"), inspect_file(path)
        hearing = decoders.hearing(facts, "a")
        self.read(decoders, path)
        path.unlink()
        self.assertTrue(decoders.read(hearing, 0, 44, patience_seconds=1), "what was decoded stays")
        other = decoders.hearing(facts, "b")
        with self.assertRaisesRegex(DecodeError, "a.flac"):
            decoders.read(other, 0, 44, patience_seconds=30)

    def test_the_least_recently_heard_goes_first(self) -> None:
        paths = [write_sound(self.folder / f"{name}.flac", 20_000) for name in "abc"]
        decoders = Decoders(self.folder / "listening", kept_bytes=200_000)
        for path in (paths[0], paths[1], paths[0], paths[2]):
            self.read(decoders, path)
            self.settle(decoders)
        names = sorted(each.stem for each in (self.folder / "listening").iterdir())
        self.assertEqual(names, ["a", "c"], "80 kB each, and the first was heard again")

    def test_it_ends_when_nobody_wants_it_any_more(self) -> None:
        path = write_sound(self.folder / "a.flac", 44_100 * 30)
        output = self.folder / "x.wav"
        with mock.patch("rumbrel.core.sound.listening.os.getppid", side_effect=[7, 7, 1]):
            write_listening(path, inspect_file(path).choice(), shape_of(path), output)
        self.assertEqual([each.name for each in self.folder.iterdir()], ["a.flac"])

    def test_what_browsers_play_is_left_as_it_is(self) -> None:
        write_framed(self.folder / "w.wma", "wmav2", muxer="asf", rate=44_100)
        files = {
            "a.flac": True, "b.wav": True, "c.aiff": False, "w.wma": False,
        }  # fmt: skip
        for name, right in files.items():
            path = self.folder / name
            if not path.exists():
                write_sound(path)
            self.assertEqual(heard_as_is(inspect_file(path)), right, name)
        raw = (self.folder / "b.wav").read_bytes()
        (self.folder / "b.wav").write_bytes(raw[:40] + bytes(4) + raw[44:])
        self.assertFalse(heard_as_is(inspect_file(self.folder / "b.wav")), "a header that browsers would believe")
