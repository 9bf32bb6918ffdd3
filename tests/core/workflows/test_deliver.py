"""Volumes: whole clusters, playing order, comparison on the volume, continuing."""

import shutil
import tempfile
from dataclasses import replace
from itertools import combinations
from pathlib import Path
from unittest import TestCase, mock

from rumbrel.core.conversion.levelling import measure
from rumbrel.core.delivery import Delivered, FoundList
from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import ResultLedger, Source
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import Volume, file_system_for, volume_at, volume_kind_for
from rumbrel.core.playlists import read_list
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.deliver import Fate, deliver, fate_of, leave_outs, plan_delivery, plan_put_right
from tests.marks import slow
from tests.signals import leftovers, write_sound


class DeliveryTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        (self.folder / "stick").mkdir()
        self.sources = []
        for number, name in enumerate(("Zeal.flac", "Again: peal?.flac", "Last.flac")):
            path = write_sound(self.folder / "in" / name, 60_000 + number, seed=number + 1)
            self.sources.append(Source(id=number, path=path, relative=Path(name)))

    def volume(self, kind: str = "stick-8gb") -> Volume:
        return volume_at(self.folder / "stick", volume_kind_for(kind))

    def run_all(self, target: str = "car-mp3", **more: object) -> list[Delivered]:
        ledger = ResultLedger.for_destination(self.folder / "ledger", self.folder / "stick")
        plan = plan_delivery(self.sources, find_target(target), self.volume(), ledger=ledger, **more)  # type: ignore[arg-type]
        self.left_over = [Path(path).name for path in plan.left_over]
        return [each for each in deliver(plan, self.folder / "work", jobs=2) if isinstance(each, Delivered)]

    def a_list(self, name: str, *ids: int) -> FoundList:
        return FoundList(path=self.folder / name, relative=Path(name), source_ids=ids)

    def test_in_playing_order_with_names_the_volume_takes_and_compared(self) -> None:
        written: list[str] = []
        original = Path.replace

        def noting(path: Path, target: Path) -> Path:
            if "stick" in str(target):
                written.append(Path(target).name)
            return original(path, target)

        with mock.patch.object(Path, "replace", noting):
            results = self.run_all(lists=[self.a_list("Tour: one.m3u", 2, 0, 1)])
        self.assertTrue(all(result.ok and result.digest for result in results))
        self.assertEqual(written[:3], ["Zeal.mp3", "Again- peal.mp3", "Last.mp3"])
        entries = read_list(self.folder / "stick" / "Tour- one.m3u8").entries
        self.assertEqual([entry.written for entry in entries], ["Last.mp3", "Zeal.mp3", "Again- peal.mp3"])
        self.assertTrue(all(inspect_file(entry.path).ok for entry in entries))
        self.assertEqual(leftovers(self.folder / "stick"), [])

    def test_a_player_without_lists_gets_a_folder_for_each(self) -> None:
        results = self.run_all("card-folders", lists=[self.a_list("Bells.m3u", 0, 2), self.a_list("Rolls.pls", 1)])
        places = [Path(result.output).relative_to(self.folder / "stick").as_posix() for result in results]
        self.assertEqual(places, ["Bells/001 Zeal.mp3", "Rolls/001 Again- peal.mp3", "Bells/002 Last.mp3"])

    @slow
    def test_a_target_that_sets_the_level_sets_it_on_the_volume(self) -> None:
        for result in self.run_all("course"):
            self.assertTrue(result.ok, result.error)
            found = measure(inspect_file(Path(result.output)), 1)
            self.assertAlmostEqual(found.level.integrated_lufs, -19, delta=0.6)

    def test_a_second_call_continues_and_copies_nothing_twice(self) -> None:
        self.run_all()
        (self.folder / "stick" / "Last.mp3").unlink()
        self.assertEqual([str(result.step.action) for result in self.run_all()], ["skip", "skip", "convert"])

    def test_a_right_name_is_no_proof(self) -> None:
        stick = self.folder / "stick"
        (stick / "Last.mp3").write_bytes(b"a song of somebody else")
        self.run_all()
        self.assertEqual((stick / "Last.mp3").read_bytes(), b"a song of somebody else")
        self.assertTrue(inspect_file(stick / "Last (2).mp3").ok)
        whole = (stick / "Zeal.mp3").read_bytes()
        (stick / "Zeal.mp3").write_bytes(whole[:5_000])
        newer = write_sound(self.folder / "in" / "Again: peal?.flac", 90_000, seed=9)
        again = {Path(result.output).name: str(result.step.action) for result in self.run_all()}
        self.assertEqual(again, {"Zeal.mp3": "convert", "Again- peal.mp3": "convert", "Last (2).mp3": "skip"})
        self.assertEqual((stick / "Zeal.mp3").read_bytes(), whole)
        self.assertEqual(inspect_file(stick / "Again- peal.mp3").samples, inspect_file(newer).samples)
        self.assertEqual(len(list(stick.iterdir())), 4)

    def test_an_equal_copy_by_another_hand_is_known_by_its_content(self) -> None:
        shutil.copy(self.sources[0].path, self.folder / "stick" / "Zeal.flac")
        other = bytearray(self.sources[2].path.read_bytes())
        other[-1] ^= 1
        (self.folder / "stick" / "Last.flac").write_bytes(other)
        results = self.run_all("archive-flac")
        self.assertEqual([str(result.step.action) for result in results], ["skip", "copy", "copy"])
        self.assertEqual(Path(results[2].output).name, "Last (2).flac")

    def test_what_a_changed_order_leaves_behind_is_named(self) -> None:
        self.run_all("card-folders", lists=[self.a_list("Bells.m3u", 0, 1, 2)])
        self.assertEqual(self.left_over, [])
        self.run_all("card-folders", lists=[self.a_list("Bells.m3u", 2, 0)])
        names = sorted(path.name for path in (self.folder / "stick" / "Bells").glob("*.mp3"))
        self.assertEqual(self.left_over, ["001 Zeal.mp3", "002 Again- peal.mp3", "003 Last.mp3"])
        self.assertTrue({"001 Last.mp3", "002 Zeal.mp3"} <= set(names))

    def test_clusters_and_room(self) -> None:
        """FAT32 up to 8 GiB has clusters of 4 KiB, above 32 GiB of 32 KiB (common practice)."""
        fat = file_system_for("fat32")
        self.assertEqual([fat.cluster_bytes(n << 30) for n in (8, 16, 32, 64)], [4096, 8192, 16384, 32768])
        self.assertEqual(fat.bytes_taken(1, 8 << 30), 4096)
        volume = self.volume("card-2gb")
        (self.folder / "stick" / "old.bin").write_bytes(bytes(5000))
        self.assertEqual(volume.free_bytes - self.volume("card-2gb").free_bytes, 8192)
        plan = plan_delivery(self.sources, find_target("car-mp3"), volume)
        small = Volume(
            root=volume.root, kind=volume.kind, system=volume.system, capacity_bytes=10_000, free_bytes=5_000
        )
        with self.assertRaisesRegex(OutputError, "whole clusters"):
            list(deliver(plan_delivery(self.sources, find_target("car-mp3"), small), self.folder / "work", jobs=1))
        self.assertTrue(plan.fits)

    def small(self, free_bytes: int) -> Volume:
        """The stick with so much room; 4 KiB clusters."""
        return replace(self.volume(), free_bytes=free_bytes)

    def test_the_room_foreseen_is_what_a_stand_in_then_counts(self) -> None:
        """Whole clusters of files, lists and folders: nothing of it is left to chance."""
        before = self.volume("card-2gb")
        lists = [self.a_list("Tour.m3u", 0, 1, 2)]
        sources = [replace(source, relative=Path("Tower", source.relative)) for source in self.sources]
        plan = plan_delivery(sources, find_target("archive-flac"), before, lists=lists)
        list(deliver(plan, self.folder / "work", jobs=1))
        self.assertEqual(before.free_bytes - self.volume("card-2gb").free_bytes, plan.needed_bytes)

    def test_what_to_leave_out_is_the_best_of_all_choices(self) -> None:
        plan = plan_delivery(self.sources, find_target("archive-flac"), self.volume())
        sizes = {step.source_id: plan.taken_by(step) for step in plan.steps}
        for short in (1, 4097, min(sizes.values()) + 1, sum(sizes.values()) - 1):
            tight = plan_delivery(self.sources, find_target("archive-flac"), self.small(plan.needed_bytes - short))
            self.assertEqual((tight.fits, tight.short_bytes), (False, short))
            few, least = leave_outs(tight)
            enough = [c for n in range(1, 4) for c in combinations(sizes, n) if sum(sizes[i] for i in c) >= short]
            self.assertEqual(len(few.source_ids), min(len(each) for each in enough))
            self.assertEqual(least.saved_bytes, min(sum(sizes[i] for i in each) for each in enough))
            kept = [source for source in self.sources if source.id not in least.source_ids]
            self.assertTrue(plan_delivery(kept, tight.target, tight.volume).fits)
            self.assertTrue(few.proved and least.proved)
        self.assertEqual(leave_outs(plan), ())

    def test_mirroring_removes_what_is_sound_and_unwanted_and_nothing_else(self) -> None:
        stick = self.folder / "stick"
        self.run_all("archive-flac")
        write_sound(stick / "Old" / "gone.flac")
        (stick / "Old" / "letter.txt").write_text("keep me")
        (stick / "old.m3u8").write_text("Old/gone.flac\n")
        plan = plan_delivery(self.sources[:2], find_target("archive-flac"), self.volume(), mirrors=True)
        self.assertEqual({Path(path).name for path in plan.unwanted}, {"gone.flac", "Last.flac", "old.m3u8"})
        list(deliver(plan, self.folder / "work", jobs=1))
        left = {path.name for path in stick.rglob("*") if path.is_file()}
        self.assertEqual(left, {"Zeal.flac", "Again- peal.flac", "letter.txt"})

    def test_mirroring_makes_the_room_it_needs(self) -> None:
        stick = self.folder / "stick"
        write_sound(stick / "gone.flac", 90_000)
        plan = plan_delivery(self.sources[:1], find_target("archive-flac"), self.volume())
        tight = self.small(plan.needed_bytes - 4096)
        self.assertFalse(plan_delivery(self.sources[:1], find_target("archive-flac"), tight).fits)
        self.assertTrue(plan_delivery(self.sources[:1], find_target("archive-flac"), tight, mirrors=True).fits)

    def test_an_old_stick_is_put_right_where_it_is(self) -> None:
        """What plays stays as it is; what does not is made anew in its folder, and the lists follow."""
        stick = self.folder / "stick"
        wma = shutil.copy(self.sources[0].path, write_sound(stick / "Bells" / "Zeal.flac"))
        clash = write_sound(stick / "Bells" / "Zeal.mp3", subtype="MPEG_LAYER_III", rate=44_100)
        wrong = write_sound(stick / "high.mp3", subtype="MPEG_LAYER_III", rate=16_000)
        (stick / "Tour.m3u8").write_text("#EXTM3U\n#EXTINF:1,Zeal\nBells/Zeal.flac\nhigh.mp3\nBells/Zeal.mp3\n")
        kept, length = clash.read_bytes(), inspect_file(wrong).duration_seconds
        plan = plan_put_right([Path(wma), wrong], find_target("car-mp3"), self.volume())
        self.assertEqual([fate_of(step) for step in plan.steps], [Fate.MADE, Fate.MADE])
        results = list(deliver(plan, self.folder / "work", jobs=2))
        self.assertTrue(all(result.ok for result in results), [getattr(r, "error", "") for r in results])
        names = sorted(path.relative_to(stick).as_posix() for path in stick.rglob("*.*"))
        self.assertEqual(names, ["Bells/Zeal (2).mp3", "Bells/Zeal.mp3", "Tour.m3u8", "high.mp3"])
        self.assertEqual(clash.read_bytes(), kept)
        self.assertEqual(inspect_file(wrong).sample_rate, 32_000)
        self.assertAlmostEqual(inspect_file(wrong).duration_seconds, length, places=2)
        entries = read_list(stick / "Tour.m3u8").entries
        self.assertEqual([entry.written for entry in entries], ["Bells/Zeal (2).mp3", "high.mp3", "Bells/Zeal.mp3"])
        self.assertEqual(entries[0].title, "Zeal")

    def test_a_volume_that_vanishes_fails_what_is_left_and_says_so(self) -> None:
        plan = plan_delivery(self.sources, find_target("car-mp3"), self.volume())
        results = []
        for result in deliver(plan, self.folder / "work", jobs=1):
            results.append(result)
            shutil.rmtree(self.folder / "stick", ignore_errors=True)
        self.assertEqual([result.ok for result in results], [True, False, False])
        self.assertEqual([result.gone for result in results], [False, True, True])
        self.assertIn("Connect it again", results[1].error)
        with self.assertRaisesRegex(OutputError, "not there"):
            self.volume()

    def test_a_copy_that_reads_back_wrong_is_not_kept(self) -> None:
        plan = plan_delivery(self.sources[:1], find_target("car-mp3"), self.volume())
        with mock.patch("rumbrel.core.files.file_digest", return_value="different"):
            results = list(deliver(plan, self.folder / "work", jobs=1))
        self.assertIn("does not read back", results[0].error)
        self.assertEqual(list((self.folder / "stick").iterdir()), [])
