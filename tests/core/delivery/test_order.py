"""The order of a volume's entries: foreseen, made by moving them, safe at every cut, and read again."""

import os
import random
import struct
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import TestCase, mock

from hypothesis import given
from hypothesis import strategies as st

from rumbrel.core.delivery import order
from rumbrel.core.delivery.order import ASIDE, bring_back, foresee_order, home_of, put_in_order
from rumbrel.core.errors import OutputError
from rumbrel.core.places import Volume, VolumeEntry, list_volume, volume_at, volume_kind_for

NAMES = ("Alms bell.mp3", "b.mp3", "Curfew, rung once more for the tower.mp3", "d.mp3", "Ember day.mp3", "f.mp3")


def entries_of(*names: str) -> list[VolumeEntry]:
    return [VolumeEntry(relative=Path(name), size_bytes=1, modified_ns=1, written=at) for at, name in enumerate(names)]


def paths(*names: str) -> list[Path]:
    return [Path(name) for name in names]


class ForeseenTests(TestCase):
    def test_what_another_delivery_left_is_counted_and_what_must_move_is_said(self) -> None:
        there = entries_of("a.mp3", "b.mp3", "c.mp3", "other.mp3")
        found = foresee_order(there, paths("a.mp3", "c.mp3", "b.mp3", "new.mp3"), by_name=False, new=paths("new.mp3"))
        # Only b stands wrong; what comes behind it has to come behind it again.
        self.assertEqual(found.order, tuple(paths("a.mp3", "c.mp3", "other.mp3", "b.mp3", "new.mp3")))
        self.assertEqual((found.moved, found.as_asked), (2, True))
        self.assertEqual(found.numbers[Path("new.mp3")], 5)
        backwards = foresee_order(there, paths("c.mp3", "b.mp3", "a.mp3"), by_name=False, gone={Path("other.mp3")})
        self.assertEqual((backwards.order, backwards.moved), (tuple(paths("c.mp3", "b.mp3", "a.mp3")), 2))

    def test_a_player_that_goes_by_names_or_folders_cannot_play_every_order(self) -> None:
        there = entries_of("b.mp3", "a.mp3")
        by_names = foresee_order(there, paths("b.mp3", "a.mp3"), by_name=True)
        self.assertEqual((by_names.order[0], by_names.as_asked), (Path("a.mp3"), False))
        self.assertEqual((by_names.moved, by_names.first_wrong), (0, Path("a.mp3")))
        mixed = foresee_order([], paths("x/1.mp3", "2.mp3"), by_name=False, new=paths("x/1.mp3", "2.mp3"))
        self.assertEqual((mixed.order, mixed.as_asked), (tuple(paths("2.mp3", "x/1.mp3")), False))
        folders = foresee_order(
            entries_of("x/1.mp3", "y/2.mp3"), paths("y/2.mp3", "x/1.mp3"), by_name=False, counts=lambda path: True
        )
        self.assertEqual((folders.order, folders.moved), (tuple(paths("y/2.mp3", "x/1.mp3")), 1))

    @given(st.permutations(NAMES), st.permutations(NAMES), st.integers(0, 6))
    def test_no_fewer_moves_would_do(self, there: list[str], asked: list[str], kept: int) -> None:
        asked = asked[:kept]
        found = foresee_order(entries_of(*there), paths(*asked), by_name=False)
        self.assertTrue(found.as_asked)
        places = [there.index(name) for name in asked]
        in_order = next((n for n in range(len(places), 0, -1) if sorted(places[:n]) == places[:n]), 0)
        self.assertEqual(found.moved, len(asked) - in_order)


class _Fat:
    """Folders as FAT keeps them (FAT32 File System Specification, 2000, "Long Directory Entries"): a short entry behind one for each 13
    signs of a long name, in the first run of free slots that holds them; what is removed leaves its slots free."""

    def __init__(self) -> None:
        self.slots: dict[Path, list[str]] = {}

    def add(self, path: Path) -> None:
        slots, size = self.slots.setdefault(path.parent, []), 1 + -(-len(path.name) // 13)
        for start in range(len(slots)):
            if slots[start : start + size] == [""] * size:
                slots[start : start + size] = [path.name] * size
                return
        while slots and slots[-1] == "":
            slots.pop()
        slots.extend([path.name] * size)

    def remove(self, path: Path) -> None:
        self.slots[path.parent] = ["" if name == path.name else name for name in self.slots[path.parent]]

    def move(self, one: Path, other: Path) -> None:
        # The new entry is written before the old one goes (as vfat does, from memory).
        self.add(other)
        self.remove(one)

    def names(self, folder: Path) -> list[str]:
        return [name for name in dict.fromkeys(self.slots.get(folder, [])) if name]


class _FatImage:
    """A real FAT32 file system, made and changed by mtools, and read byte by byte here (FAT32 File System Specification, 2000:
    boot sector, table, short and long entries). Folders are those below root."""

    def __init__(self, image: Path, root: Path) -> None:
        self.image, self.root = image, root
        with image.open("wb") as file:
            file.truncate(40 << 20)
        self._run("mformat", "-F", "-v", "STICK", "::")

    def _run(self, *words: str) -> None:
        command = [words[0], "-i", str(self.image), *words[1:]]
        subprocess.run(command, check=True, capture_output=True, env={**os.environ, "MTOOLS_LOWER_CASE": "0"})

    def _inner(self, path: Path) -> str:
        return f"::/{path.relative_to(self.root).as_posix()}".removesuffix("/.")

    def add(self, path: Path) -> None:
        if path.is_file():
            self._run("mcopy", str(path), self._inner(path))
        else:
            self._run("mmd", self._inner(path))

    def remove(self, path: Path) -> None:
        self._run("mrd" if path.name == ASIDE else "mdel", self._inner(path))

    def move(self, one: Path, other: Path) -> None:
        self._run("mmove", self._inner(one), f"{self._inner(other.parent)}/")

    def names(self, folder: Path) -> list[str]:
        data = self.image.read_bytes()
        sector, per_cluster, reserved, tables = struct.unpack_from("<HBHB", data, 11)
        (table_sectors,), (cluster,) = struct.unpack_from("<I", data, 36), struct.unpack_from("<I", data, 44)
        table, start = reserved * sector, (reserved + tables * table_sectors) * sector
        for part in folder.relative_to(self.root).parts:
            cluster = dict(self._entries(data, cluster, table, start, sector * per_cluster))[part]
        return [name for name, _ in self._entries(data, cluster, table, start, sector * per_cluster)]

    def _entries(self, data: bytes, cluster: int, table: int, start: int, size: int) -> Iterator[tuple[str, int]]:
        raw, long = b"", ""
        while 2 <= cluster < 0x0FFFFFF8:
            raw += data[start + (cluster - 2) * size :][:size]
            cluster = struct.unpack_from("<I", data, table + 4 * cluster)[0] & 0x0FFFFFFF
        for entry in (raw[at : at + 32] for at in range(0, len(raw), 32)):
            if entry[0] == 0:
                return
            if entry[0] == 0xE5:
                long = ""
            elif entry[11] == 0x0F:
                piece = (entry[1:11] + entry[14:26] + entry[28:32]).decode("utf-16-le")
                long = piece.partition("\0")[0] + long
            elif not entry[11] & 8 and entry[0] != ord("."):
                stem, suffix = entry[:8].decode("cp850").rstrip(), entry[8:11].decode("cp850").rstrip()
                short = (f"{stem}.{suffix}" if suffix else stem).lower()
                high, low = struct.unpack_from("<H", entry, 20)[0], struct.unpack_from("<H", entry, 26)[0]
                yield long or short, high << 16 | low
                long = ""


class PutInOrderTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name, "stick")
        self.root.mkdir()

    def volume(self) -> Volume:
        return volume_at(self.root, volume_kind_for("stick-8gb"))

    def write(self, *names: str) -> None:
        before = 0
        for name in names:
            path = self.root / name
            path.parent.mkdir(exist_ok=True)
            path.write_text(name)
            before = order._later(path, before)

    def there(self) -> list[str]:
        return [entry.relative.as_posix() for entry in list_volume(self.volume())]

    def test_files_and_folders_come_into_the_order_that_was_foreseen(self) -> None:
        self.write("z.mp3", "a.mp3", "other.mp3", "x/2.mp3", "x/1.mp3", "w/1.mp3")
        asked = paths("a.mp3", "z.mp3", "w/1.mp3", "x/1.mp3", "x/2.mp3")
        foreseen = foresee_order(list_volume(self.volume()), asked, by_name=False)
        done = put_in_order(self.volume(), asked)
        # A stand-in's folder takes a new place by itself when something in it does.
        self.assertEqual((done.ok, done.moved, foreseen.moved), (True, 2, 3))
        self.assertEqual(self.there(), [path.as_posix() for path in foreseen.order])
        self.assertEqual((self.root / "z.mp3").read_text(), "z.mp3")
        self.assertEqual(put_in_order(self.volume(), asked).moved, 0)

    def test_cut_off_at_any_point_no_track_is_lost_and_the_next_run_ends_it(self) -> None:
        """Either order: what waits lies beside, by its own name, and plays from there."""
        self.write(*NAMES)
        asked = paths(*reversed(NAMES))
        rename, cuts = os.rename, 0
        for after in range(14):
            left = after

            def pulled(one: Path, other: Path) -> None:
                nonlocal left
                left -= 1
                if left < 0:
                    raise OSError(5, "pulled out")
                rename(one, other)

            with mock.patch.object(order.os, "rename", pulled):
                try:
                    put_in_order(self.volume(), asked)
                except OutputError:
                    cuts += 1
            there = self.there()
            self.assertEqual(sorted(home_of(Path(name)).name for name in there), sorted(NAMES), after)
            foreseen = foresee_order(list_volume(self.volume()), asked, by_name=False)
            self.assertEqual(len(foreseen.order), len(NAMES))
            bring_back(self.volume())
            self.assertTrue(put_in_order(self.volume(), asked).ok)
            self.assertEqual(self.there(), [path.name for path in asked])
            asked = asked[::-1]
        # Of six, the one that comes first stays: five leave the folder, and five come back.
        self.assertEqual(cuts, 10)
        self.assertFalse((self.root / ASIDE).exists())

    def test_stopped_by_the_user_everything_is_back_in_its_folder(self) -> None:
        self.write(*NAMES)

        def stop(moved: int) -> None:
            if moved == 3:
                raise OutputError("stopped")

        with self.assertRaises(OutputError):
            put_in_order(self.volume(), paths(*reversed(NAMES)), tell=stop)
        self.assertEqual(sorted(self.there()), sorted(NAMES))

    @contextmanager
    def on_fat(self, fat: "_Fat | _FatImage") -> Iterator[None]:
        """The same moves, with the entries as FAT keeps them."""
        rename, mkdir, rmdir = os.rename, Path.mkdir, Path.rmdir

        def moved(one: Path, other: Path) -> None:
            rename(one, other)
            fat.move(Path(one), Path(other))

        def made(path: Path, *args: object, **more: object) -> None:
            there = path.exists()
            mkdir(path, *args, **more)  # type: ignore[arg-type]
            if not there:
                fat.add(path)

        def gone(path: Path) -> None:
            rmdir(path)
            fat.remove(path)

        def entries(folder: Path, volume: Volume) -> list[os.DirEntry[str]]:
            with os.scandir(folder) as found:
                known = {entry.name: entry for entry in found}
            return [known[name] for name in fat.names(folder)]

        with (
            mock.patch.object(order.os, "rename", moved), mock.patch.object(Path, "mkdir", made),
            mock.patch.object(Path, "rmdir", gone), mock.patch.object(order, "entries_as_written", entries),
            mock.patch.object(order, "_later", lambda path, before: before),
        ):  # fmt: skip
            yield

    def test_gaps_of_fat_either_do_no_harm_or_are_said(self) -> None:
        """In a random directory with gaps and others' files the entries, read again, are as asked, or it is said."""
        made = said = 0
        for seed in range(60):
            dice, fat = random.Random(seed), _Fat()
            for path in self.root.iterdir():
                path.unlink()
            names = [f"{'long name ' * dice.randint(0, 3)}{n}.mp3" for n in range(8)]
            for name in dice.sample(names, 8):
                (self.root / name).write_text(name)
                fat.add(self.root / name)
            for name in dice.sample(names, dice.randint(0, 3)):
                (self.root / name).unlink()
                fat.remove(self.root / name)
                names.remove(name)
            asked = dice.sample(names, dice.randint(2, len(names)))
            with self.on_fat(fat):
                done = put_in_order(self.volume(), paths(*asked))
            kept = [name for name in fat.names(self.root) if name in asked]
            self.assertEqual(kept == asked, done.ok, (seed, done))
            self.assertEqual(sorted(os.listdir(self.root)), sorted(names))
            made, said = made + done.ok, said + (not done.ok)
        self.assertGreater(made, 40)
        self.assertLess(said, 20)

    def test_a_real_fat32_keeps_the_order_by_a_reader_of_its_bytes(self) -> None:
        """The same on a file system that mtools makes and changes; what is in order is told from its directory."""
        fat, dice = _FatImage(self.root.with_name("stick.img"), self.root), random.Random(5)
        names = [
            "Läuten, a long name of more than one entry.mp3",
            "b.mp3",
            "third of the ring.mp3",
            "d.mp3",
            "e.mp3",
            "F six.mp3",
        ]
        for name in names:
            (self.root / name).write_text(name)
            fat.add(self.root / name)
        self.assertEqual(fat.names(self.root), names)
        (self.root / names[0]).unlink()
        fat.remove(self.root / names[0])
        kept = made = 0
        for _ in range(5):
            asked = dice.sample(names[1:], 5)
            with self.on_fat(fat):
                done = put_in_order(self.volume(), paths(*asked))
            there = fat.names(self.root)
            self.assertEqual(sorted(there), sorted(names[1:]))
            self.assertEqual(there == asked, done.ok, (there, asked))
            made, kept = made + 1, kept + done.ok
        self.assertGreaterEqual(kept, made - 1)
