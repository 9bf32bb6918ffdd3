"""A volume as its player sees it: order, what its display shows, and every limit just kept and just passed."""

from dataclasses import replace
from pathlib import Path
from unittest import TestCase

from rumbrel.core.delivery.player_view import played_tracks, player_checks, shown_text
from rumbrel.core.inspection import Facts
from rumbrel.core.places import Volume, VolumeEntry, file_system_for, volume_kind_for
from rumbrel.core.tags import Cover, TagSet
from rumbrel.core.targets import Target, find_target
from rumbrel.core.targets.model import PlayerRule, PlaylistRule


def facts(path: str, *, codec: str = "mp3", cover: int = 0, **tags: str) -> Facts:
    covers = (Cover(media_type="image/jpeg", size_bytes=cover),) if cover else ()
    return Facts(
        path=path, container=codec, codec=codec, sample_rate=44_100, channels=2, samples=441_000, bitrate_bps=192_000,
        bitrate_mode="constant", channel_mode="stereo", size_bytes=240_000,
        tags=TagSet(fields={name: (value,) for name, value in tags.items()}, covers=covers),
    )  # fmt: skip


class PlayerViewTests(TestCase):
    car = find_target("car-mp3")

    def target(self, **rule: object) -> Target:
        return replace(self.car, player=PlayerRule(**rule))  # type: ignore[arg-type]

    def entries(self, *names: str) -> list[VolumeEntry]:
        return [
            VolumeEntry(relative=Path(name), size_bytes=240_000, modified_ns=0, written=number)
            for number, name in enumerate(names)
        ]

    def volume(self, system: str = "fat32", gigabytes: float = 2) -> Volume:
        size = int(gigabytes * 1e9)
        return Volume(
            root=Path("/v"), kind=volume_kind_for("card-2gb"), system=file_system_for(system), capacity_bytes=size,
            free_bytes=size,
        )  # fmt: skip

    def test_order_and_display(self) -> None:
        entries = self.entries("z.mp3", "B/2.mp3", "B/1.mp3", "a.mp3", "A/x.mp3", "note.txt")
        known = {entry.relative: facts(f"/v/{entry.relative}", title=entry.relative.stem) for entry in entries[:5]}
        written = played_tracks(entries, known, self.car)
        self.assertEqual([track.shown for track in written], ["z", "2", "1", "a", "x"])
        by_names = played_tracks(entries, known, self.target(order="names"))
        self.assertEqual(
            [track.entry.relative.as_posix() for track in by_names], ["a.mp3", "z.mp3", "A/x.mp3", "B/1.mp3", "B/2.mp3"]
        )
        self.assertEqual([track.number for track in by_names], [1, 2, 3, 4, 5])
        long = facts("/v/01 File.mp3", title="Bells over the ferry", artist="A. Venning")
        self.assertEqual(shown_text(long, "01 File.mp3", PlayerRule()), ("Bells over the ferry – A. Venning", False))
        self.assertEqual(shown_text(long, "01 File.mp3", PlayerRule(display_signs=10)), ("Bells over", True))
        self.assertEqual(shown_text(long, "01 File.mp3", PlayerRule(shows="names")), ("01 File", False))
        self.assertEqual(shown_text(facts("/v/b.mp3"), "b.mp3", PlayerRule())[0], "b", "a track without a title")

    def verdicts(self, target: Target, *names: str, volume: Volume | None = None, **found: Facts) -> dict[str, str]:
        entries = self.entries(*names)
        known = {
            entry.relative: found.get(entry.relative.stem, facts(entry.relative.name))
            for entry in entries
            if entry.relative.suffix == ".mp3"
        }
        played = played_tracks(entries, known, target)
        checks = player_checks(volume or self.volume(), entries, played, target)
        for check in checks:
            self.assertTrue(
                check.found and (check.verdict in ("passed", "not applicable")) == (check.remedy == ""), check
            )
        return {check.what: str(check.verdict) for check in checks if check.remedy}

    def test_every_limit_just_kept_and_just_passed(self) -> None:
        plain = self.target()
        names = ("a.mp3", "F/b.mp3", "F/c.mp3")
        self.assertEqual(self.verdicts(plain, *names), {})
        for rule, kept, passed, what, verdict in (
            ("largest_volume_gb", 2, 1, "Size", "doubtful"),
            ("deepest_folders", 1, 0, "Folder depth", "failed"),
            ("most_in_folder", 2, 1, "Entries in a folder", "failed"),
            ("most_tracks", 3, 2, "Tracks", "failed"),
        ):
            self.assertEqual(self.verdicts(self.target(**{rule: kept}), *names), {}, rule)
            self.assertEqual(self.verdicts(self.target(**{rule: passed}), *names), {what: verdict}, rule)
        reads = self.target(file_systems=("fat32",))
        self.assertEqual(self.verdicts(reads, *names), {})
        self.assertEqual(self.verdicts(reads, *names, volume=self.volume("ntfs")), {"File system": "failed"})

    def test_names_tracks_covers_and_lists(self) -> None:
        short = replace(self.target(), names=replace(self.car.names, longest=8))
        self.assertEqual(self.verdicts(short, "1234.mp3"), {})
        self.assertEqual(self.verdicts(short, "12345.mp3"), {"Length of names": "doubtful"})
        self.assertEqual(self.verdicts(self.car, "a.mp3", a=facts("a", codec="flac")), {"Every track plays": "failed"})
        small = replace(self.car, tags=replace(self.car.tags, cover_bytes=1000))
        self.assertEqual(self.verdicts(small, "a.mp3", a=facts("a", cover=1000)), {})
        self.assertEqual(self.verdicts(small, "a.mp3", a=facts("a", cover=1001)), {"Covers": "doubtful"})
        bare = replace(self.car, tags=replace(self.car.tags, covers="none"))
        self.assertEqual(self.verdicts(bare, "a.mp3", a=facts("a", cover=5)), {"Covers": "doubtful"})
        self.assertEqual(self.verdicts(self.car, "a.m3u8"), {})
        self.assertEqual(self.verdicts(self.car, "a.m3u"), {"Playlists": "doubtful"})
        folders = replace(self.car, playlists=PlaylistRule(kind="none", folder_each=True))
        self.assertEqual(self.verdicts(folders, "a.m3u8"), {"Playlists": "doubtful"})
