"""Bags as another reader sees them: the library of those who keep the format (RFC 8493)."""

import hashlib

import bagit

from rumbrel.core.errors import CheckFailed, DecodeError, OutputError
from rumbrel.core.workflows.bag import BagFile, make_bag, unescaped
from tests.core.case import FolderCase
from tests.signals import write_sound


class BagTests(FolderCase):
    def files(self, *names: str) -> list[BagFile]:
        return [
            BagFile(path=write_sound(self.folder / "in" / f"{number}.wav", seed=number), name=name)
            for number, name in enumerate(names)
        ]

    def test_a_bag_is_valid_and_says_what_is_in_it(self) -> None:
        files = self.files("a/one.wav", "a/100 & \n two.wav", "größe 🔔.wav")
        said: list[int] = []
        words = "Tower concerts of the carillon, " * 9
        made = make_bag(files, self.folder / "Set", description=words, report=said.append)
        bag = bagit.Bag(str(made.path))
        bag.validate()
        self.assertEqual((bag.version, bag.algorithms), ("1.0", ["sha256"]))
        self.assertEqual(bag.info["Payload-Oxum"], f"{made.size_bytes}.3")
        self.assertEqual(" ".join(bag.info["External-Description"].split()), words.strip())
        self.assertEqual((said[-1], said), (made.size_bytes, sorted(said)))
        held = {name.removeprefix("data/"): sums["sha256"] for name, sums in bag.payload_entries().items()}
        known = {file.name: hashlib.sha256(file.path.read_bytes()).hexdigest() for file in files}
        self.assertEqual({unescaped(name): sums for name, sums in held.items()}, known)
        self.assertEqual(len(set(bag.tagfile_entries())), 3)

    def test_signs_of_the_manifest_itself_are_escaped(self) -> None:
        """RFC 8493, 2.1.3 (from memory): line ends and the percent sign. The library reads the first alone."""
        made = make_bag(self.files("100% \r\n.wav"), self.folder / "Set")
        (line,) = (made.path / "manifest-sha256.txt").read_bytes().decode().splitlines()
        self.assertEqual(line.partition("  ")[2], "data/100%25 %0D%0A.wav")
        self.assertEqual(unescaped("100%25 %0D%0A.wav"), "100% \r\n.wav")
        self.assertEqual(unescaped("%250A"), "%0A")

    def test_a_flipped_bit_makes_it_invalid(self) -> None:
        made = make_bag(self.files("a.wav"), self.folder / "Set")
        copy = made.path / "data" / "a.wav"
        raw = bytearray(copy.read_bytes())
        raw[-5] ^= 1
        copy.write_bytes(raw)
        with self.assertRaises(bagit.BagValidationError):
            bagit.Bag(str(made.path)).validate()

    def test_what_is_not_as_it_was_or_not_there_makes_no_bag(self) -> None:
        (file,) = self.files("a.wav")
        good = hashlib.sha256(file.path.read_bytes()).hexdigest()
        for bad, error, words in (
            ([BagFile(path=file.path, name="a.wav", sha256="0" * 64)], CheckFailed, "not what was kept"),
            ([BagFile(path=self.folder / "gone.wav", name="a.wav")], DecodeError, "cannot be read"),
            ([file, BagFile(path=file.path, name="a.wav")], OutputError, "twice"),
            ([BagFile(path=file.path, name="../a.wav")], OutputError, "outside the bag"),
            ([BagFile(path=file.path, name="/a.wav")], OutputError, "outside the bag"),
            ([BagFile(path=file.path, name="\udcff.wav")], OutputError, "not UTF-8"),
            ([], OutputError, "no file"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(error, words):
                make_bag(bad, self.folder / "out" / "Set")
            self.assertFalse((self.folder / "out" / "Set").exists())
        made = make_bag([BagFile(path=file.path, name="a.wav", sha256=good)], self.folder / "out" / "Set")
        with self.assertRaisesRegex(OutputError, "there already"):
            make_bag([file], made.path)
        self.assertEqual([path.name for path in made.path.parent.iterdir()], ["Set"])
