"""What the commands say to people: sentences, one a line, that say what happened and what to do."""

import io
import os
import socket
import subprocess
import sys
from pathlib import Path

from django.core.management import call_command
from django.core.management.base import CommandError

from rumbrel.core.targets import all_targets
from tests.marks import slow
from tests.signals import music, write_sound
from tests.web.case import WebCase

ROOT = Path(__file__).resolve().parents[3]


class TextTests(WebCase):
    def say(self, *words: str) -> tuple[list[str], str]:
        out, error = io.StringIO(), ""
        try:
            call_command(*words, stdout=out)
        except CommandError as refused:
            error = str(refused)
        except SystemExit:
            error = "not all went well"
        return out.getvalue().splitlines(), error

    def test_inspect_and_targets(self) -> None:
        name = "line\nbreak \u202e.wav"
        path = write_sound(self.source / name, 44_100)
        lines, error = self.say("inspect", str(path))
        self.assertEqual((len(lines), error), (1, ""))
        self.assertTrue(lines[0].endswith("WAV 44.1 kHz/16, 2 ch, 44,100 samples, 1411 kbit/s constant"))
        (self.source / "words.mp3").write_text("words")
        lines, error = self.say("inspect", str(self.source / "words.mp3"), str(self.source / "gone.wav"))
        self.assertEqual(error, "not all went well")
        self.assertIn("not a sound file that can be read", lines[1])
        self.assertIn("Check that its disk", lines[3])
        lines, _ = self.say("inspect", "--deep", str(path))
        self.assertRegex(lines[1], r"^  −\d+\.\d LUFS, range \d+\.\d LU, true peak −\d+\.\d dBTP, 0 clipped runs$")
        self.assertEqual(len(self.say("targets")[0]), len(all_targets()))

    def test_convert_says_what_becomes_of_each_file(self) -> None:
        write_sound(self.source / "a.wav", 44_100)
        (self.source / "empty.flac").touch()
        out = str(self.folder / "out")
        lines, _ = self.say("convert", "--target", "car-mp3", "--out", out, "--dry-run", str(self.source))
        self.assertRegex(
            lines[0], r"^convert: .*a\.wav -> .*a\.mp3, 176,444 bytes become [\d,]+ \(the car takes MP3 only\)$"
        )
        self.assertIn("refuse: ", lines[1])
        lines, error = self.say("convert", "--target", "car-mp3", "--out", out, str(self.source))
        self.assertEqual(error, "not all went well")
        self.assertTrue(any("has no content" in line for line in lines))
        _, error = self.say("convert", "--targets", "car-mp3,car-mp3", "--out", out, str(self.source))
        self.assertIn("Name each target once", error)

    def test_disc_says_the_time_and_what_would_fit(self) -> None:
        write_sound(self.source / "a.flac", sound=music(44_100 * 5))
        out = str(self.folder / "d")
        lines, error = self.say("disc", "--out", out, str(self.source / "a.flac"))
        self.assertEqual((lines[0], error), ("1 track, 0:05:00 on the 80 minute blank, 79:55:00 free (m:s:f)", ""))
        (self.source / "many.m3u8").write_text("a.flac\n" * 100)
        lines, error = self.say("disc", "--out", out, str(self.source / "many.m3u8"))
        self.assertIn("100 tracks (99 allowed); split them", error)

    @slow
    def test_starting_says_what_is_wrong_with_the_port(self) -> None:
        with socket.socket() as taken:
            taken.bind(("127.0.0.1", 0))
            taken.listen()
            for port, words in (
                (str(taken.getsockname()[1]), "is in use"),
                ("banana", "must be a number"),
                ("0", "must be a number"),
            ):
                environment = {**os.environ, "RUMBREL_DATA": str(self.folder / "data"), "RUMBREL_PORT": port}
                ended = subprocess.run(
                    [sys.executable, "manage.py", "serve"], cwd=ROOT, env=environment, capture_output=True, text=True
                )
                self.assertNotEqual(ended.returncode, 0)
                self.assertIn(words, ended.stderr)
                self.assertNotIn("Traceback", ended.stderr)

    @slow
    def test_the_run_script_is_plain_shell_and_passes_words_on(self) -> None:
        self.assertEqual(subprocess.run(["sh", "-n", str(ROOT / "run")]).returncode, 0)
        ended = subprocess.run([str(ROOT / "run"), "targets"], capture_output=True, text=True, env={**os.environ})
        self.assertEqual(ended.returncode, 0)
        self.assertEqual(len(ended.stdout.splitlines()), len(all_targets()))
