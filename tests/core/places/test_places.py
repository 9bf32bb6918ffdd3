"""Volumes and file systems."""

from dataclasses import replace
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import Action, ForecastOptions, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import (
    FILE_SYSTEMS,
    VOLUME_KINDS,
    file_system_for,
    fitted_name,
    list_volume,
    mounted_kind,
    volume_at,
    volume_kind_for,
)
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import write_sound


class VolumeTests(FolderCase):
    def test_every_kind_of_volume_and_file_system_can_be_asked_for(self) -> None:
        for kind in VOLUME_KINDS:
            volume = volume_at(self.folder, volume_kind_for(kind.key))
            self.assertTrue(0 < volume.free_bytes <= volume.capacity_bytes)
            self.assertGreaterEqual(volume.bytes_taken(1), 512)
            self.assertEqual(volume.bytes_taken(0), 0)
        for system in FILE_SYSTEMS:
            self.assertEqual(file_system_for(system.key), system)
            self.assertEqual(system.bytes_taken(0, 1 << 30), 0)
        for ask in (lambda: volume_kind_for("moon"), lambda: file_system_for("moon")):
            with self.assertRaisesRegex(OutputError, "There are"):
                ask()

    def test_a_file_too_large_for_fat_is_refused_beforehand(self) -> None:
        """FAT32 holds files of at most 4,294,967,295 bytes."""
        write_sound(self.folder / "a.flac")
        facts = replace(inspect_file(self.folder / "a.flac"), size_bytes=5_000_000_000)
        plan = forecast_batch(
            gather_sources([self.folder / "a.flac"]), find_target("archive-flac"), self.folder / "o",
            options=ForecastOptions(file_system="fat32"), inspect=lambda path: facts,
        )  # fmt: skip
        self.assertEqual(plan.steps[0].action, Action.REFUSE)
        self.assertIn("4,294,967,295", plan.steps[0].reason)

    def test_a_volume_is_listed_as_its_entries_were_written(self) -> None:
        for name in ("b.mp3", "Zoo/2.mp3", "a.mp3", "Zoo/1.mp3", "Air/x.mp3", ".hidden/y.mp3"):
            (self.folder / name).parent.mkdir(exist_ok=True)
            (self.folder / f"{name}.part").write_bytes(b"1")
            (self.folder / f"{name}.part").rename(self.folder / name)
        (self.folder / "link.mp3").symlink_to(self.folder / "a.mp3")
        found = list_volume(volume_at(self.folder, volume_kind_for("card-2gb")))
        in_folders = [entry.relative.as_posix() for entry in found]
        self.assertEqual(in_folders[:2], ["b.mp3", "a.mp3"])
        self.assertEqual([name for name in in_folders if "Zoo" in name], ["Zoo/2.mp3", "Zoo/1.mp3"])
        self.assertEqual(len(in_folders), 5)

    def test_the_system_says_what_a_folder_lies_on(self) -> None:
        """mountinfo as proc(5) describes it; blanks of a mount point stand there as \\040."""
        stick = self.folder.resolve() / "my stick"
        (stick / "Tour").mkdir(parents=True)
        escaped = str(stick).replace(" ", "\\040")
        lines = f"22 1 8:1 / / rw - ext4 /dev/sda1 rw\n90 22 8:17 / {escaped} rw,nosuid shared:7 - TYPE /dev/sdb1 rw\n"
        for kind, key in (("vfat", "fat32"), ("exfat", "exfat"), ("fuseblk", "ntfs"), ("ext4", "native")):
            found, point = mounted_kind(stick / "Tour", mounts=lines.replace("TYPE", kind))
            self.assertEqual((found.file_system, point), (key, stick))
        self.assertEqual(mounted_kind(self.folder, mounts=lines)[1], Path("/"))
        with self.assertRaises(OutputError):
            mounted_kind(self.folder / "gone")
        there = volume_at(stick, found)
        self.assertTrue(there.is_there)
        self.assertFalse(replace(there, device=there.device + 1).is_there, "the file system below an empty mount point")

    @settings(deadline=None, max_examples=300)
    @given(stem=st.text(min_size=1, max_size=300), longest=st.none() | st.integers(8, 255))
    def test_every_name_becomes_one_that_the_file_system_takes(self, stem: str, longest: int | None) -> None:
        """The rules of long names on FAT32, and of Joliet's names, written down here once more (from memory)."""
        for key, signs, most in (("fat32", '"*/:<>?\\|', 255), ("exfat", '"*/:<>?\\|', 255), ("joliet", "*/:;?\\", 64)):
            name = fitted_name(stem, ".mp3", file_system_for(key), longest=longest)
            units = len(name.encode("utf-16-le")) // 2
            self.assertLessEqual(units, min(most, longest or most))
            self.assertFalse(set(name) & set(signs) or any(ord(sign) < 32 for sign in name), name)
            self.assertTrue(name.endswith(".mp3") and name == name.strip(" ") and len(name) > 4, name)
            self.assertNotIn(name.split(".")[0].lower() if key != "joliet" else "", ("con", "nul", "lpt1", "com9"))
            if key == "joliet":
                self.assertTrue(all(ord(sign) <= 0xFFFF for sign in name))

    @given(sizes=st.lists(st.integers(0, 1 << 33), max_size=30), volume=st.sampled_from([1 << 30, 12 << 30, 1 << 36]))
    def test_room_is_counted_in_whole_clusters(self, sizes: list[int], volume: int) -> None:
        for key in ("fat32", "exfat", "ntfs"):
            system = file_system_for(key)
            cluster = system.cluster_bytes(volume)
            for size in sizes:
                taken = system.bytes_taken(size, volume)
                self.assertTrue(taken % cluster == 0 and 0 <= taken - size < cluster)

    def test_names_take_entries_of_their_folder(self) -> None:
        """FAT32: one entry of 32 bytes and one for every 13 units begun; exFAT: two and one for every 15 (from memory)."""
        fat, exfat = file_system_for("fat32"), file_system_for("exfat")
        self.assertEqual([fat.entry_bytes("x" * n) for n in (1, 13, 14, 26, 27)], [64, 64, 96, 96, 128])
        self.assertEqual([exfat.entry_bytes("x" * n) for n in (15, 16)], [96, 128])
        volume = volume_at(self.folder, volume_kind_for("card-2gb"))
        self.assertEqual([volume.folder_bytes(["a.mp3"] * n) for n in (0, 63, 64)], [4096, 4096, 8192])
