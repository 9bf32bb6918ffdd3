"""Volumes: whole clusters, playing order, comparison on the volume, continuing."""

import shutil
import tempfile
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
from rumbrel.core.workflows.deliver import deliver, plan_delivery
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

    def test_a_volume_that_vanishes_fails_what_is_left_and_says_so(self) -> None:
        plan = plan_delivery(self.sources, find_target("car-mp3"), self.volume())
        results = []
        for result in deliver(plan, self.folder / "work", jobs=1):
            results.append(result)
            shutil.rmtree(self.folder / "stick", ignore_errors=True)
        self.assertEqual([result.ok for result in results], [True, False, False])
        self.assertIn("Connect it again", results[1].error)
        with self.assertRaisesRegex(OutputError, "not there"):
            self.volume()

    def test_a_copy_that_reads_back_wrong_is_not_kept(self) -> None:
        plan = plan_delivery(self.sources[:1], find_target("car-mp3"), self.volume())
        with mock.patch("rumbrel.core.files.file_digest", return_value="different"):
            results = list(deliver(plan, self.folder / "work", jobs=1))
        self.assertIn("does not read back", results[0].error)
        self.assertEqual(list((self.folder / "stick").iterdir()), [])
