"""Volumes and file systems."""

from dataclasses import replace

from rumbrel.core.errors import OutputError
from rumbrel.core.forecast import Action, ForecastOptions, forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.places import FILE_SYSTEMS, VOLUME_KINDS, file_system_for, volume_at, volume_kind_for
from rumbrel.core.targets import find_target
from tests.core.case import FolderCase
from tests.signals import write_sound


class VolumeTests(FolderCase):
    def test_every_kind_of_volume_and_file_system_can_be_asked_for(self) -> None:
        for kind in VOLUME_KINDS:
            volume = volume_at(self.folder, volume_kind_for(kind.key))
            self.assertTrue(0 < volume.free_bytes <= volume.capacity_bytes)
            self.assertGreaterEqual(volume.bytes_taken(1), 512)
            self.assertEqual(volume.room_needed([]), 0)
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
