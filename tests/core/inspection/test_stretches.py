"""Parts of a file are tracks of their own: to the sample, through every decoder, target and level."""

from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.conversion import Outcome, run_steps
from rumbrel.core.errors import DecodeError
from rumbrel.core.forecast import Action, ResultLedger, Source, forecast_batch
from rumbrel.core.inspection import Facts, inspect_deep, inspect_file
from rumbrel.core.inspection.stretches import Part, cut_out, part_of
from rumbrel.core.records import as_record, from_record
from rumbrel.core.sound.decoding import open_sound
from rumbrel.core.targets import FitKind, all_targets, find_target, fit_to
from rumbrel.core.workflows.listen import heard_as_is
from tests.core.case import FolderCase
from tests.signals import music, write_film, write_framed, write_sound

SAMPLES = 300_000
PARTS = ((0, 100_001), (100_001, 100_002), (100_002, 250_000), (250_000, SAMPLES))


def part(start: int, end: int, title: str = "One") -> Part:
    return Part(start_sample=start, end_sample=end, fields={"title": (title,)})


def decoded(facts: Facts) -> np.ndarray:
    with open_sound(Path(facts.path), facts.choice()) as sound:
        blocks = list(sound.blocks())
        assert not sound.damaged_packets
    return np.concatenate(blocks)


class StretchTests(FolderCase):
    def files(self) -> list[Path]:
        sound = music(SAMPLES)
        return [
            write_sound(self.folder / "a.wav", sound=sound),
            write_sound(self.folder / "a.flac", sound=sound),
            write_sound(self.folder / "a.ogg", sound=sound, subtype="VORBIS"),
            write_framed(self.folder / "a.mp3", "libmp3lame", muxer="mp3", rate=44_100, seconds=SAMPLES / 44_100),
            write_framed(self.folder / "a.m4a", "aac", muxer="mp4", rate=44_100, seconds=SAMPLES / 44_100),
            write_film(self.folder / "late.mkv", seconds=7, sound_late_seconds=0.5),
        ]

    def test_the_parts_of_a_file_are_the_file_through_every_decoder(self) -> None:
        for path in self.files():
            whole = inspect_file(path)
            edges = [start for start, _ in PARTS] + [whole.samples]
            parts = [cut_out(whole, part(*edge)) for edge in zip(edges[:-1], edges[1:], strict=True)]
            self.assertEqual([len(decoded(each)) for each in parts], [each.samples for each in parts], path.name)
            np.testing.assert_array_equal(np.concatenate([decoded(each) for each in parts]), decoded(whole), path.name)
            self.assertEqual(len({each.key for each in parts}), 4)
            self.assertAlmostEqual(sum(each.sound_bytes for each in parts), whole.size_bytes, delta=4)
            for each in parts:
                self.assertEqual(from_record(Facts, as_record(each)), each)
                self.assertEqual(cut_out(whole, part_of(each) or part(0, 1)), each)
                self.assertFalse(heard_as_is(each))

    def test_a_part_that_does_not_lie_in_the_file_is_refused(self) -> None:
        whole = inspect_file(write_sound(self.folder / "a.wav", 1_000))
        for start, end in ((-1, 10), (10, 10), (20, 10), (0, 1_001)):
            with self.assertRaisesRegex(DecodeError, "does not lie in the file"):
                cut_out(whole, part(start, end))
        self.assertIsNone(part_of(whole))

    def test_damage_elsewhere_is_not_the_parts_own(self) -> None:
        path = write_sound(self.folder / "a.flac", sound=music(SAMPLES))
        raw = bytearray(path.read_bytes())
        raw[len(raw) * 9 // 10 : len(raw) * 9 // 10 + 40] = bytes(40)
        path.write_bytes(raw)
        whole = inspect_file(path)
        for (start, end), damaged in (((0, 100_000), False), ((200_000, SAMPLES), True)):
            found = inspect_deep(cut_out(whole, part(start, end)))
            self.assertEqual(bool(found.damaged_packets), damaged)
            self.assertEqual(found.decoded_samples, end - start)

    def test_no_target_takes_a_part_as_it_is_or_packs_it_anew(self) -> None:
        whole = inspect_file(write_sound(self.folder / "a.flac", sound=music(SAMPLES)))
        kinds = {fit_to(cut_out(whole, part(0, 100_000)), target).kind for target in all_targets()}
        self.assertEqual(kinds, {FitKind.CONVERT})
        self.assertIn("this is a part of one", fit_to(cut_out(whole, part(0, 9)), find_target("archive-flac")).reason)

    def test_parts_become_files_of_their_own_once(self) -> None:
        sound = music(SAMPLES)
        path = write_sound(self.folder / "a.flac", sound=sound)
        whole = inspect_file(path)
        facts = [cut_out(whole, part(*edge, title=f"T{at}")) for at, edge in enumerate(PARTS) if edge[1] - edge[0] > 9]
        known = {Path(each.key): each for each in facts}
        sources = [
            Source(id=at, path=path, relative=Path("Album", f"{at} T.flac"), part=each.part)
            for at, each in enumerate(facts)
        ]
        ledger = ResultLedger(self.folder / "l.jsonl")
        target = find_target("archive-flac")

        def plan():  # type: ignore[no-untyped-def]
            known_ledger = ResultLedger(ledger.path)
            return forecast_batch(sources, target, self.out, inspect=known.__getitem__, ledger=known_ledger)

        first = plan()
        self.assertEqual([step.action for step in first.steps], [Action.CONVERT] * 3)
        self.assertAlmostEqual(first.bytes_before, whole.size_bytes, delta=whole.size_bytes * 0.01)
        events = list(run_steps(first.steps, jobs=2, ledgers={target.slug: ledger.path}))
        outcomes = [event for event in events if isinstance(event, Outcome)]
        self.assertEqual([outcome.error for outcome in outcomes], [""] * 3)
        whole_sound, _ = soundfile.read(path, dtype="int16")
        for at, each in enumerate(facts):
            result = self.out / "Album" / f"{at} T.flac"
            values, _ = soundfile.read(result, dtype="int16")
            start = each.stretch.start_sample if each.stretch else 0
            np.testing.assert_array_equal(values, whole_sound[start : start + each.samples])
            self.assertEqual(inspect_file(result).tags.first("title"), each.tags.first("title"))
        self.assertEqual([(step.action, step.reason) for step in plan().steps], [(Action.SKIP, "up to date")] * 3)
