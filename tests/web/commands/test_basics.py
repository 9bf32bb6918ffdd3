"""The commands' first duties: one record a line, exit status, the mirrored tree, and discs only where they fit."""

from rumbrel.core.targets import all_targets
from tests.signals import write_sound
from tests.web.commands.case import CommandCase


class CommandTests(CommandCase):
    def test_inspect_and_targets(self) -> None:
        good = str(write_sound(self.folder / "a b's.wav", 22_050))
        records, status = self.run_command("inspect", good)
        self.assertEqual((status, records[0]["samples"], records[0]["duration"]), (0, 22_050, 0.5))
        bad = self.folder / "bad.wav"
        bad.write_text("words")
        records, status = self.run_command("inspect", str(bad), good)
        self.assertEqual((status, [r["ok"] for r in records]), (1, [False, True]))
        records, status = self.run_command("targets")
        self.assertEqual([r["slug"] for r in records], [target.slug for target in all_targets()])

    def test_convert_mirrors_the_tree_and_goes_on_after_faults(self) -> None:
        write_sound(self.source / "deep" / "er" / "a.wav")
        write_sound(self.source / "b.flac")
        (self.source / "cover.jpg").write_bytes(b"\xff\xd8")
        out = self.folder / "out"
        records, status = self.run_command("convert", "--target", "car-mp3", "--out", str(out), str(self.source))
        self.assertEqual(status, 0)
        self.assertEqual(sorted(r["action"] for r in records), ["convert", "convert", "skip"])
        self.assertTrue((out / "deep" / "er" / "a.mp3").is_file() and (out / "b.mp3").is_file())
        (self.source / "empty.wav").touch()
        words = ("convert", "--target", "car-mp3", "--out", str(out), "--when-present", "replace", str(self.source))
        records, status = self.run_command(*words)
        self.assertEqual((status, sum(r["ok"] for r in records)), (1, 3))
        _, status = self.run_command("convert", "--target", "nowhere", "--out", str(out), str(self.source))
        self.assertEqual(status, 1)

    def test_disc_writes_when_it_fits_and_only_then(self) -> None:
        for number in (1, 2):
            write_sound(self.source / f"{number}.wav", 44_100 * 5, seed=number)
        sheet = self.source / "shop.m3u8"
        sheet.write_text("#EXTM3U\n#EXTINF:5,First\n1.wav\n2.wav\n")
        out = self.folder / "discs"
        records, status = self.run_command("disc", "--out", str(out), "--gap", "3", str(sheet))
        self.assertEqual((status, records[0]["fits"], records[0]["total_sectors"]), (0, True, 375 * 2 + 225))
        self.assertEqual([t["title"] for t in records[0]["tracks"]], ["First", "2"])
        self.assertEqual(
            sorted(p.name for p in out.iterdir()), [f"shop.{s}" for s in ("bin", "cdt", "cue", "digests", "sub")]
        )
        long = self.source / "long.wav"
        write_sound(long, 44_100)
        with long.open("r+b") as file:
            size = 76 * 60 * 176_400
            file.truncate(44 + size)
            file.seek(4)
            file.write((36 + size).to_bytes(4, "little"))
            file.seek(40)
            file.write(size.to_bytes(4, "little"))
        records, status = self.run_command("disc", "--out", str(out), "--medium", "74", "--name", "long", str(long))
        self.assertEqual((status, records[0]["fits"]), (2, False))
        self.assertLess(records[0]["free_sectors"], 0)
        self.assertFalse((out / "long.bin").exists())
