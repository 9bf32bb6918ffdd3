"""Files appear whole or not at all; copies are compared; only what nobody works on is swept."""

import os
import subprocess
import sys
import threading
from pathlib import Path
from unittest import mock

import xxhash

from rumbrel.core import files
from rumbrel.core.errors import CheckFailed, DecodeError, OutputError
from tests.core.case import FolderCase


class FileTests(FolderCase):
    def names(self) -> list[str]:
        return sorted(path.name for path in self.folder.rglob("*"))

    def test_an_error_leaves_the_older_file_and_no_other(self) -> None:
        path = self.folder / "a.txt"
        files.write_whole(path, "old")
        with mock.patch.object(Path, "replace", side_effect=OSError(28, "No space")):
            with self.assertRaisesRegex(OutputError, "no room left at .*Free some space"):
                files.write_whole(path, "new")
        self.assertEqual((path.read_text(), self.names()), ("old", ["a.txt"]))

    def test_what_cannot_be_removed_hides_no_reason_and_goes_with_the_next_run(self) -> None:
        path, read_only = self.folder / "a.txt", OSError(30, "Read-only file system")
        with mock.patch.object(Path, "unlink", side_effect=read_only), self.assertLogs("rumbrel.core.files", "WARNING"):
            with self.assertRaisesRegex(OutputError, "can only be read"):
                with files.working_file(path), files.output_errors(self.folder):
                    raise read_only
            self.assertEqual(files.remove_leftovers(self.folder), 0)
        self.assertEqual(self.names(), [files.working_path(path).name])
        files.write_whole(path, "whole")
        self.assertEqual(self.names(), ["a.txt"])

    def test_the_reason_that_a_library_does_not_tell_is_found_by_trying(self) -> None:
        self.assertIn("no room left at /dev.", str(files.not_written(Path("/dev/full"), "it gave up")))
        self.assertEqual(
            str(files.not_written(self.folder / "a.part", "it gave up")), "The result could not be written: it gave up."
        )

    def test_what_appeared_meanwhile_is_kept(self) -> None:
        path = self.folder / "deep" / "a.txt"
        with files.working_file(path) as working:
            working.write_text("mine")
            path.write_text("another's")
            with self.assertRaisesRegex(OutputError, "a.txt appeared in the meantime and is kept"):
                files.move_into_place(working, path, replaces=False)
            self.assertEqual(path.read_text(), "another's")
            files.move_into_place(working, path, replaces=True)
        self.assertEqual((path.read_text(), self.names()), ("mine", ["a.txt", "deep"]))

    def test_a_run_that_lets_go_is_waited_for(self) -> None:
        path, began, tried = self.folder / "a.flac", threading.Event(), threading.Event()

        def other() -> None:
            with files.working_file(path) as working:
                working.write_bytes(b"its own")
                began.set()
                tried.wait()

        thread = threading.Thread(target=other)
        thread.start()
        began.wait()
        with mock.patch.object(files.time, "sleep", side_effect=lambda seconds: tried.set()):
            with files.working_file(path) as working:
                # What the other left went with its name; this one has a file of its own.
                self.assertEqual(working.read_bytes(), b"")
        thread.join()
        self.assertEqual(self.names(), [])

    def test_two_runs_never_write_one_file_and_none_sweeps_the_others(self) -> None:
        path = self.folder / "a.flac"
        files.working_path(self.folder / "left.flac").write_bytes(b"half")
        (self.folder / ".rumbrel-of-mine").touch()
        with files.working_file(path) as working:
            with (
                mock.patch.object(files, "_SECONDS_FOR_ANOTHER", 0.2),
                self.assertRaisesRegex(OutputError, "another run is writing a.flac"),
                files.working_file(path),
            ):
                self.fail("locked")
            self.assertEqual(files.remove_leftovers(self.folder), 1)
            self.assertTrue(working.exists())
        self.assertEqual(self.names(), [".rumbrel-of-mine"])

    def test_a_working_folder_begins_empty_and_goes(self) -> None:
        for _ in range(2):
            with self.assertRaises(RuntimeError), files.working_folder(self.folder / "disc") as inner:
                self.assertEqual(list(inner.iterdir()), [])
                (inner / "a").touch()
                raise RuntimeError
        self.assertEqual(self.names(), [])

    def test_copies_are_compared(self) -> None:
        content = bytes(range(256)) * 10_000
        source, copy = self.folder / "a", self.folder / "b"
        source.write_bytes(content)
        told: list[int] = []
        digest, size = files.copy_compared(source, copy, report=told.append)
        self.assertEqual((copy.read_bytes(), size), (content, len(content)))
        self.assertEqual(digest, xxhash.xxh3_128_hexdigest(content))
        self.assertEqual(told, [1 << 20, 2 << 20, len(content)])
        with mock.patch.object(files, "file_digest", return_value=digest[::-1]):
            self.assertRaisesRegex(CheckFailed, "Check the disk", files.copy_compared, source, copy)
        self.assertRaises(DecodeError, files.copy_compared, self.folder / "none", copy)
        self.assertRaises(OutputError, files.copy_compared, source, self.folder / "no" / "b")

    def test_names_that_are_no_text_are_written_as_their_bytes(self) -> None:
        files.write_whole(self.folder / "a", "caf\udce9")
        self.assertEqual((self.folder / "a").read_bytes(), b"caf\xe9")

    def test_what_a_killed_run_left_is_swept_away(self) -> None:
        script = (
            "import os, signal, sys\nfrom pathlib import Path\n"
            "from rumbrel.core.files import working_file\n"
            "with working_file(Path(sys.argv[1])) as working:\n"
            "    working.write_bytes(b'half')\n    os.kill(os.getpid(), signal.SIGKILL)\n"
        )
        ended = subprocess.run([sys.executable, "-c", script, str(self.folder / "x" / "a.mp3")])
        self.assertEqual(ended.returncode, -9)
        self.assertEqual(len(list((self.folder / "x").iterdir())), 1)
        self.assertEqual((files.remove_leftovers(self.folder), self.names()), (1, ["x"]))

    def test_errors_of_destinations_say_what_to_do(self) -> None:
        for number, words in (
            (28, "no room"), (30, "only be read"), (13, "may not write"), (2, "Connect it"), (36, "too long"),
            (5, "could not"),
        ):  # fmt: skip
            with self.assertRaisesRegex(OutputError, words), files.output_errors(Path("/some/folder")):
                raise OSError(number, os.strerror(number))
