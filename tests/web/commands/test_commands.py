"""The commands in depth: several targets, forecasts, levels, lists, discs, taking in, delivery."""

import csv
import json
import os
import subprocess
import sys
from io import StringIO
from pathlib import Path
from unittest import mock

import numpy as np
import soundfile
from django.core.management import call_command, get_commands, load_command_class
from django.core.management.base import CommandError

from rumbrel.core.disc import media
from rumbrel.core.tags import TagSet, write_tags
from tests.marks import slow
from tests.signals import decoded, leftovers, music, write_film, write_sound
from tests.web.commands.case import CommandCase


class MakingCase(CommandCase):
    def album(self, *seconds: float) -> list[Path]:
        paths = []
        for number, length in enumerate(seconds, 1):
            path = write_sound(
                self.source / f"{number}.flac", sound=music(round(44_100 * length), seed=number) * number / 4
            )
            fields = {
                "title": (f"Peal {number}",),
                "album": ("Tower",),
                "artist": ("A. Venning",),
                "track": (f"{number}",),
            }
            write_tags(path, TagSet(fields=fields), container="flac", codec="flac")
            paths.append(path)
        return paths


class ConvertTests(MakingCase):
    def test_several_targets_forecast_report_and_verify(self) -> None:
        self.album(2, 3)
        words = ("convert", "--targets", "car-mp3,archive-flac", "--out", str(self.out), str(self.source))
        forecast, status = self.run_command(*words, "--dry-run")
        self.assertEqual(status, 0)
        self.assertFalse(self.out.exists())
        records, status = self.run_command(*words, "--report", str(self.folder / "r.csv"))
        self.assertEqual(status, 0)
        self.assertEqual({r["output"] for r in records}, {f["output"] for f in forecast})
        self.assertEqual(sorted(r["action"] for r in records), ["convert", "convert", "copy", "copy"])
        rows = list(csv.DictReader((self.folder / "r.csv").open()))
        self.assertEqual(sorted(int(row["bytes_out"]) for row in rows), sorted(r["bytes_out"] for r in records))
        again, status = self.run_command(*words)
        self.assertEqual([(r["action"], r["reason"]) for r in again], [("skip", "up to date")] * 4)
        verified, status = self.run_command(*words, "--verify-only")
        self.assertEqual((status, [r["checked"] for r in verified]), (0, [True] * 4))
        (self.out / "car-mp3" / "1.mp3").write_bytes(b"torn")
        verified, status = self.run_command(*words, "--verify-only")
        self.assertEqual((status, sum(r["ok"] for r in verified)), (1, 3))

    def test_beside_their_sources_and_once_more(self) -> None:
        self.album(2, 3)
        before = {path: path.read_bytes() for path in self.source.rglob("*.*")}
        words = ("convert", "--target", "pocket-aac", "--beside", str(self.source))
        records, status = self.run_command(*words)
        self.assertEqual(
            (status, [Path(r["output"]).parent for r in records]), (0, [Path(r["source"]).parent for r in records])
        )
        again, status = self.run_command(*words)
        self.assertEqual({r["action"] for r in again}, {"skip"}, again)
        self.assertEqual(len(again), 2 * len(records), "the results are sources now, and are there already")
        self.assertEqual({path: path.read_bytes() for path in before}, before)
        self.assertEqual(len(list(self.source.rglob("*.*"))), 2 * len(before))

    def test_patterns_levels_and_wrong_options(self) -> None:
        self.album(2, 3)
        words = ("convert", "--target", "disc-wav", "--out", str(self.out), str(self.source))
        records, status = self.run_command(*words, "--pattern", "{album}/{track:02} {title}", "--level", "album")
        self.assertEqual(status, 0)
        names = sorted(path.relative_to(self.out).as_posix() for path in self.out.rglob("*.wav"))
        self.assertEqual(names, ["Tower/01 Peal 1.wav", "Tower/02 Peal 2.wav"])
        loud, quiet = (np.abs(decoded(self.out / name)).max() for name in reversed(names))
        self.assertAlmostEqual(loud / quiet, 2.0, delta=0.3)
        for more, word in (
            (("--pattern", "{nothing}"), "no field"), (("--level", "track", "--loudness", "5"), "LUFS"),
            (("--level", "track", "--ceiling", "3"), "dBTP"), (("--loudness", "-18"), "--loudness -18 LUFS has no effect"),
            (("--level", "tags", "--ceiling", "-1"), "has no effect"), (("--limit",), "--limit has no effect"),
            (("--report", "x.txt"), "csv"),
        ):  # fmt: skip
            records, status = self.run_command(*words, *more)
            self.assertEqual((records, status), ([], 1))
            self.assertIn(word, self.error)

    def test_long_files_are_cut_and_films_give_all_their_sounds_in_lists_too(self) -> None:
        self.album(4)
        sheet = "".join(f'  TRACK 0{n} AUDIO\n    TITLE "Part {n}"\n    INDEX 01 00:0{n - 1}:00\n' for n in (1, 2, 3))
        (self.source / "1.cue").write_text(f'FILE "1.flac" WAVE\n{sheet}')
        write_film(self.source / "film.mkv", seconds=2, languages=("eng", "deu"))
        (self.source / "evening.m3u").write_text("film.mkv\n1.flac\n")
        words = ("convert", "--target", "car-mp3", "--dither", "shaped", "--out", str(self.out), str(self.source))
        records, status = self.run_command(*words, "--cut", "--sound", "all")
        self.assertEqual(status, 0, records)
        names = sorted(path.stem for path in self.out.rglob("*.mp3"))
        self.assertEqual(names, ["01 Part 1", "02 Part 2", "03 Part 3", "film, deu", "film, eng"])
        listed = [line for line in (self.out / "evening.m3u8").read_text().splitlines() if not line.startswith("#")]
        self.assertEqual([Path(line).stem for line in listed], ["film, eng", "film, deu", *names[:3]])
        again, _ = self.run_command(*words, "--cut", "--sound", "all")
        self.assertEqual({record["action"] for record in again if "action" in record}, {"skip", "list"})
        for more, word in (
            (("car-mp3", "--cut", str(self.source / "film.mkv")), "--cut has no effect"),
            (("car-mp3", "--sound", "all", str(self.source / "1.flac")), "--sound all has no effect"),
            (("open-opus", "--dither", "shaped", str(self.source / "1.flac")), "nothing is rounded"),
        ):
            self.run_command("convert", "--out", str(self.folder / "other"), "--target", *more)
            self.assertIn(word, self.error)

    def test_lists_among_the_sources_become_lists_of_the_results(self) -> None:
        self.album(1, 1, 1)
        lists = self.source / "lists"
        lists.mkdir()
        (lists / "evening.m3u").write_text("../3.flac\n../1.flac\n../3.flac\n../gone.flac\n", encoding="cp1252")
        (lists / "torn.pls").write_bytes(b"\0\0\0")

        def tracks(path: Path) -> list[str]:
            return [line for line in path.read_text().splitlines() if not line.startswith("#")]

        words = ("convert", "--target", "car-mp3", "--out", str(self.out), str(self.source))
        records, status = self.run_command(*words, "--dry-run")
        promised = next(r for r in records if r["source"].endswith("evening.m3u"))
        self.assertEqual((promised["tracks"], promised["missing"]), (3, ["../gone.flac"]))
        records, status = self.run_command(*words)
        by_name = {Path(r["source"]).name: r for r in records}
        self.assertEqual((status, by_name["torn.pls"]["action"], by_name["evening.m3u"]["ok"]), (1, "skip", True))
        self.assertIn("not a playlist", by_name["torn.pls"]["error"])
        made = self.out / "lists" / "evening.m3u8"
        self.assertEqual(tracks(made), ["../3.mp3", "../1.mp3", "../3.mp3"])
        self.assertIn("#EXTINF:1,A. Venning - Peal 3", made.read_text())
        # Brought up to date when its tracks are there already, and left alone once the user changed it.
        (lists / "torn.pls").unlink()
        (lists / "evening.m3u").write_text("../2.flac\n")
        records, status = self.run_command(*words)
        self.assertEqual((status, tracks(made)), (0, ["../2.mp3"]))
        self.assertIn("Peal 2", made.read_text())
        made.write_text("1.mp3\n# mine\n")
        records, status = self.run_command(*words)
        self.assertEqual((records[-1]["action"], records[-1]["reason"]), ("skip", "already there"))
        # Named, a list brings its tracks; where the result would be the list itself it gets a number.
        named = self.source / "named.m3u8"
        named.write_text("3.flac\n1.flac\n3.flac\ngone.flac\n")
        records, status = self.run_command("convert", "--target", "car-mp3", "--out", str(self.source), str(named))
        self.assertEqual((status, len(records)), (1, 4))
        refused = [r["error"] for r in records if r["action"] == "refuse"]
        self.assertEqual(len(refused), 1)
        self.assertIn("not there", refused[0])
        self.assertEqual(named.read_text().splitlines()[0], "3.flac")
        self.assertEqual(tracks(self.source / "named (2).m3u8"), ["3.mp3", "1.mp3", "3.mp3"])

    def test_which_sound_of_a_film_and_packed_anew_or_converted(self) -> None:
        film = write_film(self.source / "film.mkv", seconds=1, languages=("eng", "dut"))
        words = ("convert", "--target", "pocket-aac", "--out", str(self.out), str(film))
        records, status = self.run_command(*words, "--sound", "dut", "--dry-run")
        self.assertEqual((status, records[0]["action"]), (0, "rewrap"))
        self.assertIn("number 2 is taken, not eng", records[0]["warnings"][0]["text"])
        records, status = self.run_command(*words, "--sound", "fra", "--no-rewrap")
        self.assertEqual((status, records[0]["action"]), (0, "convert"))
        texts = {w["code"]: w["text"] for w in records[0]["warnings"]}
        self.assertIn("no sound 'fra'", texts["other-sound"])
        # Other settings are other work: what is there is not taken for it, and is not written over.
        records, status = self.run_command(*words, "--sound", "dut")
        self.assertEqual((status, records[0]["action"], records[0]["reason"]), (0, "skip", "already there"))
        records, status = self.run_command(*words, "--sound", "dut", "--when-present", "replace")
        self.assertEqual((status, records[0]["action"], records[0]["ok"]), (0, "rewrap", True))

    def test_a_target_for_folders_gets_a_folder_for_each_list(self) -> None:
        self.album(1, 1)
        for name in ("a", "b"):
            (self.source / f"{name}.m3u").write_text("2.flac\n1.flac\n")
        lists = [str(self.source / f"{name}.m3u") for name in ("a", "b")]
        records, status = self.run_command("convert", "--target", "card-folders", "--out", str(self.out), *lists)
        self.assertEqual((status, len(records)), (0, 4))
        made = sorted(str(path.relative_to(self.out)) for path in self.out.rglob("*.*"))
        self.assertEqual(made, ["a/001 2.mp3", "a/002 1.mp3", "b/001 2.mp3", "b/002 1.mp3"])
        for gone in made:
            (self.out / gone).unlink()
            records, status = self.run_command("convert", "--target", "card-folders", "--out", str(self.out), *lists)
            self.assertEqual((status, [r["action"] for r in records].count("convert")), (0, 1), gone)
            self.assertTrue((self.out / gone).is_file(), gone)

    def test_inspect_deep(self) -> None:
        path = str(self.album(2)[0])
        records, status = self.run_command("inspect", "--deep", path)
        deep = records[0]["deep"]
        self.assertEqual((status, deep["decoded_samples"], deep["clipped_runs"], deep["channels"]), (0, 88_200, 0, ""))
        self.assertTrue(-60 < deep["integrated_lufs"] < 0 and len(deep["picture"]["lows"]) <= 1000)


class HelpTests(MakingCase):
    def test_every_option_is_explained_and_none_is_the_frameworks(self) -> None:
        for name, app in get_commands().items():
            if not str(app).startswith("rumbrel."):
                continue
            parser = load_command_class(str(app), name).create_parser("manage.py", name)
            self.assertEqual([action.dest for action in parser._actions if not action.help], [], name)
            text = parser.format_help()
            self.assertIn(f"usage: ./run {name}", text)
            for word in ("--settings", "--traceback", "PYTHONPATH", "--skip-checks", "manage.py"):
                self.assertNotIn(word, text, name)

    def test_what_became_of_all_is_said_at_the_end_with_the_failures_again(self) -> None:
        self.album(1, 1)
        (self.source / "torn.flac").write_bytes((self.source / "1.flac").read_bytes()[:9_000])
        (self.source / "no.mp3").write_bytes(b"\xff\xfb\x90\x64" + bytes(50))
        out = StringIO()
        with self.assertRaises(SystemExit):
            call_command("convert", "--target", "disc-wav", "--out", str(self.out), str(self.source), stdout=out)
        said = out.getvalue().splitlines()
        at = next(n for n, line in enumerate(said) if line.startswith("2 done"))
        self.assertRegex(said[at], r"^2 done, (1 in part, 1|2) failed\.$|^2 done, 1 in part.*|^2 done, 2 failed\.$")
        self.assertTrue(all(str(self.source) in line and ": " in line for line in said[at + 1 :]) and said[at + 1 :])
        empty = self.folder / "empty"
        empty.mkdir()
        with self.assertRaisesRegex(CommandError, "Nothing to convert: there are no sound files in"):
            call_command("convert", "--target", "disc-wav", "--out", str(self.out), str(empty), stdout=out)


class DiscTests(MakingCase):
    def test_lists_become_discs_with_text_codes_and_level(self) -> None:
        self.album(5, 6)
        (self.source / "l.m3u8").write_text("2.flac\n1.flac\n")
        text = self.folder / "t.toml"
        text.write_text('title = "Shop"\nproduct_code = "2904173000523"\n')
        words = ("disc", "--out", str(self.out), "--name", "d", "--text", str(text), str(self.source / "l.m3u8"))
        records, status = self.run_command(*words, "--dry-run", "--level", "album")
        self.assertEqual((status, records[0]["written"]), (0, False))
        self.assertFalse(self.out.exists())
        records, status = self.run_command(*words, "--gaps", "0,0:01:00")
        self.assertEqual((status, [t["gap_sectors"] for t in records[0]["tracks"]]), (0, [0, 75]))
        self.assertEqual(
            sorted(p.name for p in self.out.iterdir()), [f"d.{s}" for s in ("bin", "cdt", "cue", "digests", "sub")]
        )
        for wrong, word in ((("--gaps", "1"), "2 tracks"), (("--gap", "99"), "0 to 60"), (("--speed", "7"), "rated")):
            _, status = self.run_command(*words, *wrong)
            self.assertIn(word, self.error)

    def test_what_is_too_long_is_offered_and_split(self) -> None:
        self.album(5)
        sheet = self.source / "many.m3u8"
        sheet.write_text("1.flac\n" * 30)
        small = [medium if medium.key != "74" else _smaller(medium) for medium in media.MEDIA]
        with mock.patch.object(media, "MEDIA", tuple(small)):
            words = ("disc", "--medium", "74", "--out", str(self.out), str(sheet))
            records, status = self.run_command(*words)
            self.assertEqual(status, 2)
            self.assertLessEqual({"fewest", "even"}, {o["key"] for o in records[0]["offers"]})
            self.assertIn("runs over", records[0]["error"])
            records, status = self.run_command(*words, "--split", "even")
            self.assertEqual((status, records[0]["proved"]), (0, True))
            self.assertEqual(len(list(self.out.glob("*.bin"))), len(records[0]["discs"]))

    def test_a_cue_sheet_is_a_list_of_stretches_and_a_disc_comes_back(self) -> None:
        self.album(5, 6)
        _, status = self.run_command(
            "disc", "--out", str(self.out), "--name", "a", *map(str, sorted(self.source.glob("*.flac")))
        )
        self.assertEqual(status, 0)
        for image_format in ("flac", "wav"):
            folder = self.folder / image_format
            words = ("disc", "--out", str(folder), "--name", "a", "--format", image_format, str(self.out / "a.cue"))
            records, status = self.run_command(*words)
            self.assertEqual(status, 0)
            _, status = self.run_command("disc", "--out", str(folder / "again"), "--name", "a", str(folder / "a.cue"))
            self.assertEqual((folder / "again" / "a.bin").read_bytes(), (self.out / "a.bin").read_bytes())
        records, status = self.run_command(
            "takein", str(self.out / "a.cue"), "--out", str(self.folder / "taken"), "--condition", "scratched"
        )
        self.assertEqual((status, [r["title"] for r in records]), (0, ["Peal 1", "Peal 2"]))
        for number, record in enumerate(records, 1):
            taken, _ = soundfile.read(record["output"], dtype="int16")
            source, _ = soundfile.read(self.source / f"{number}.flac", dtype="int16")
            # This drive delivers 6 samples late, so the first and last 6 of the disc are out of its reach.
            np.testing.assert_array_equal(taken[10 : len(source) - 10], source[10:-10])
        self.assertTrue(list((self.folder / "taken").rglob("*.log.json")))
        self.assertEqual(leftovers(self.folder), [])

    @slow
    def test_a_write_that_is_killed_leaves_no_image_and_the_next_one_succeeds(self) -> None:
        path = write_sound(self.source / "long.wav", 44_100 * 90)
        command = [sys.executable, "manage.py", "disc", "--out", str(self.out), "--name", "d", *[str(path)] * 20]
        environment = {**os.environ, "RUMBREL_DATA": str(self.folder / "data")}
        writing = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL)
        while not list(self.out.glob(".rumbrel-*/d.bin")) and writing.poll() is None:
            os.sched_yield()
        writing.kill()
        writing.wait()
        self.assertEqual([p for p in self.out.glob("*") if not p.name.startswith(".")], [])
        _, status = self.run_command("disc", "--out", str(self.out), "--name", "d", str(path))
        self.assertEqual((status, leftovers(self.out)), (0, []))

    @slow
    def test_runs_pauses_hidden_sound_and_a_pool(self) -> None:
        whole = music(44_100 * 14)
        for number, (a, b) in enumerate(((0, 300_017), (300_017, 617_400)), 1):
            path = write_sound(self.source / f"{number}.flac", sound=whole[a:b])
            write_tags(
                path, TagSet(fields={"album": ("One",), "title": (f"Part {number}",)}), container="flac", codec="flac"
            )
        files = [str(self.source / f"{n}.flac") for n in (1, 2)]
        words = ("disc", "--out", str(self.out), "--name", "d", "--when-present", "replace")
        records, status = self.run_command(*words, "--join", "run-on", *files)
        self.assertEqual((status, [t["runs_on"] for t in records[0]["tracks"]]), (0, [False, True]))
        self.assertEqual(records[0]["total_sectors"], 617_400 // 588)
        # One recording has one gain, however loud its halves are: a step in the level would be heard in the join.
        quiet_half = whole * np.linspace(1, 0.3, len(whole))[:, None]
        for number, (a, b) in enumerate(((0, 300_017), (300_017, 617_400)), 1):
            path = write_sound(self.source / "sinking" / f"{number}.flac", sound=quiet_half[a:b])
            write_tags(path, TagSet(fields={"album": ("One",)}), container="flac", codec="flac")
        sinking = [str(self.source / "sinking" / f"{n}.flac") for n in (1, 2)]
        records, status = self.run_command(*words, "--join", "run-on", "--level", "track", *sinking)
        tracks = records[0]["tracks"]
        self.assertEqual((status, [t["runs_on"] for t in tracks]), (0, [False, True]))
        self.assertEqual(len({t["gain_db"] for t in tracks}), 1, tracks)
        self.assertNotEqual(tracks[0]["gain_db"], 0.0)
        records, _ = self.run_command(*words, "--level", "track", *sinking)
        self.assertEqual(len({t["gain_db"] for t in records[0]["tracks"]}), 2)
        records, _ = self.run_command(*words, "--first-pause", "4", "--before-first", files[0], files[1])
        self.assertEqual(records[0]["tracks"][0]["start_msf"], f"0:08:{-(-300_017 // 588) + 150 - 8 * 75:02d}")
        self.assertIn("many players never play it", json.dumps(records[0]["checklist"]))
        for number in range(3):
            write_sound(self.source / "pool" / f"{number}.flac", 44_100 * (5 + number))
        (self.source / "pool.m3u8").write_text("".join(f"pool/{n}.flac\n" for n in range(3)))
        records, _ = self.run_command(*words, "--dry-run", "--fill-from", str(self.source / "pool.m3u8"), *files)
        self.assertEqual(len(records[0]["fill"]), 3)
        self.assertEqual(records[0]["free_sectors"] - records[0]["free_after_fill_sectors"], 375 + 450 + 525 + 3 * 150)
        self.assertEqual({t["gain_db"] for t in records[0]["tracks"]}, {0.0})
        self.assertTrue(25 <= records[0]["tracks"][0]["from_mm"] < records[0]["tracks"][1]["to_mm"] < 26)
        _, status = self.run_command(*words, "--first-pause", "1", *files)
        self.assertIn("2 to 60 s", self.error)

    def test_nothing_is_overwritten_that_is_a_source_or_was_there(self) -> None:
        path = write_sound(self.source / "a.flac", 44_100 * 5)
        before = path.read_bytes()
        for words in (
            ("--out", str(self.source), "--name", "a", "--format", "flac", "--when-present", "replace", str(path)),
            ("--out", str(self.source), "--name", "l", str(self.source / "l.cue")),
        ):  # fmt: skip
            (self.source / "l.cue").write_text('FILE "a.flac" WAVE\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n')
            _, status = self.run_command("disc", *words)
            self.assertNotEqual(status, 0)
            self.assertIn("is a source of this disc", self.error)
        self.assertEqual(path.read_bytes(), before)
        words = ("disc", "--out", str(self.out), "--name", "d", str(path))
        self.run_command(*words)
        written = (self.out / "d.bin").read_bytes()
        other = write_sound(self.source / "b.flac", 44_100 * 6, seed=3)
        _, status = self.run_command(*words[:-1], str(other))
        self.assertEqual((status != 0, (self.out / "d.bin").read_bytes()), (True, written))
        self.assertIn("is in", self.error)
        records, status = self.run_command(*words[:-1], "--when-present", "number", str(other))
        self.assertEqual((status, Path(records[0]["bin"]).name), (0, "d (2).bin"))
        _, status = self.run_command(*words[:-1], "--when-present", "replace", str(other))
        self.assertEqual((status, (self.out / "d.bin").stat().st_size), (0, (self.out / "d (2).bin").stat().st_size))

    def test_data_discs(self) -> None:
        self.album(2)
        records, status = self.run_command(
            "disc", "--format", "iso", "--out", str(self.out), "--name", "x", str(self.source)
        )
        self.assertEqual((status, records[0]["files"]), (0, 1))
        self.assertTrue((self.out / "x.iso").is_file())

    def test_missing_and_empty(self) -> None:
        (self.source / "l.m3u8").write_text("gone.flac\n")
        (self.source / "e.m3u8").write_text("#EXTM3U\n")
        (self.source / "c.cue").write_text('FILE "gone.wav" WAVE\nTRACK 01 AUDIO\nINDEX 01 00:00:00\n')
        for name, word in (
            ("l.m3u8", "missing: gone.flac"),
            ("e.m3u8", "empty"),
            ("c.cue", "does not lie beside"),
            ("no.m3u8", "cannot be read"),
        ):
            _, status = self.run_command("disc", "--out", str(self.out), str(self.source / name))
            self.assertEqual(status, 1)
            self.assertIn(word, self.error)


def _smaller(medium):  # type: ignore[no-untyped-def]
    from dataclasses import replace

    return replace(medium, capacity_sectors=8_000)


class TakeInTests(MakingCase):
    @slow
    def test_a_broken_disc_is_saved_as_far_as_it_can_be_read(self) -> None:
        path = write_sound(self.source / "a.wav", 44_100 * 60)
        self.run_command("disc", "--out", str(self.out), "--name", "d", str(path))
        (self.out / "d.cdt").write_bytes(b"")
        taken = self.folder / "taken"
        words = ("takein", str(self.out / "d.cue"), "--out", str(taken), "--target", "car-mp3", "--condition", "broken")
        records, status = self.run_command(*words, "--seed", "2")
        self.assertEqual((status, records[0]["verdict"]), (1, "failed"))
        self.assertTrue(records[0]["failed"] and Path(records[0]["output"]).is_file())
        log = json.loads(next(taken.rglob("*.log.json")).read_text())
        self.assertEqual(log["tracks"][0]["failed"], records[0]["failed"])
        names = self.folder / "names.toml"
        names.write_text(
            f'[[discs]]\ndigest = "{log["disc"]}"\ntitle = "Found"\nperformer = "P"\ntracks = ["The one"]\n'
        )
        records, status = self.run_command(*words[:-1], "clean", "--names", str(names))
        self.assertEqual((status, records[0]["title"], records[0]["verdict"]), (0, "The one", "passed"))
        self.assertTrue((taken / "Found" / "01 The one.mp3").is_file())
        names.write_text("[[discs]]\ntitle = 1\n")
        _, status = self.run_command(*words[:-1], "clean", "--names", str(names))
        self.assertIn("without its", self.error)
        _, status = self.run_command("takein", str(self.out / "gone.cue"), "--out", str(taken))
        self.assertIn("cannot be read", self.error)


class PlaceTests(MakingCase):
    def test_playlist(self) -> None:
        self.album(2)
        (self.source / "l.m3u").write_text("#EXTINF:2,A. Venning - Peal\n1.flac\ngone.flac\n")
        records, status = self.run_command("playlist", str(self.source / "l.m3u"), str(self.folder / "l.xspf"))
        self.assertEqual((status, [r["missing"] for r in records]), (1, [False, True]))
        words = ("playlist", "--drop-missing", str(self.folder / "l.xspf"), str(self.folder / "l.pls"))
        records, status = self.run_command(*words)
        self.assertEqual([r["title"] for r in records], ["Peal"])
        _, status = self.run_command("playlist", str(self.folder / "l.pls"), str(self.folder / "l.pls"))
        self.assertIn("Name another", self.error)

    def test_deliver(self) -> None:
        self.album(2, 2)
        (self.source / "l.m3u8").write_text("2.flac\n1.flac\n2.flac\n")
        (self.folder / "stick").mkdir()
        words = ("deliver", "--volume", str(self.folder / "stick"), "--volume-kind", "card-2gb", "--target", "car-mp3")
        records, status = self.run_command(*words, str(self.source / "l.m3u8"), "--dry-run")
        self.assertEqual((status, list((self.folder / "stick").iterdir())), (0, []))
        records, status = self.run_command(*words, str(self.source / "l.m3u8"))
        names = [Path(r["output"]).name for r in records]
        self.assertEqual((status, names), (0, ["2.mp3", "1.mp3", "l.m3u8"]))
        self.assertTrue(all(r["checked"] for r in records[:2]))
        played = [line for line in (self.folder / "stick" / "l.m3u8").read_text().splitlines() if line[0] != "#"]
        self.assertEqual(played, ["2.mp3", "1.mp3", "2.mp3"])
        _, status = self.run_command(*words[:2], str(self.folder / "gone"), *words[3:], str(self.source))
        self.assertIn("not there", self.error)
