"""Lists in every format, both ways."""

import tempfile
from pathlib import Path
from unittest import TestCase

from hypothesis import example, given, settings
from hypothesis import strategies as st

from rumbrel.core.errors import PlaylistError
from rumbrel.core.inspection import read_confirmed_list
from rumbrel.core.playlists import LIST_SUFFIXES, ListEntry, TrackList, read_list, write_list
from tests.marks import slow
from tests.signals import write_sound

NAMES = st.text(st.characters(exclude_characters="/\0\n\r\x0b\x0c\x1c\x1d\x1e\x85\u2028\u2029", exclude_categories=("Cs",)),
                min_size=1, max_size=30).map(lambda text: f"x{text}x.wav")  # fmt: skip


class ListTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()

    def _file(self, name: str) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch()
        return path

    @given(st.lists(NAMES, min_size=1, max_size=4), st.sampled_from(LIST_SUFFIXES), st.booleans())
    @example(["xÂ\xa0x.wav"], ".m3u", False)
    @settings(max_examples=120, deadline=None)
    def test_entries_come_back(self, names: list[str], suffix: str, relative: bool) -> None:
        paths = [self._file(f"in/{name}") for name in names]
        entries = tuple(
            ListEntry(path=path, title=f"Title {n}", performer="A. Venning", seconds=float(60 + n))
            for n, path in enumerate(paths)
        )
        list_path = self.folder / "lists" / f"l{suffix}"
        write_list(TrackList(entries=entries, title="Tower days"), list_path, relative=relative)
        found = read_list(list_path)
        for entry, path in zip(found.entries, paths, strict=True):
            self.assertEqual(entry.path.resolve(), path.resolve())
        self.assertEqual([(e.title, e.performer, e.seconds) for e in found.entries],
                         [(e.title, e.performer, e.seconds) for e in entries])  # fmt: skip
        if suffix != ".pls":
            self.assertEqual(found.title, "Tower days")

    def test_nothing_is_lost_that_both_can_hold(self) -> None:
        entries = (ListEntry(path=self._file("a.flac"), title="Rounds", performer="A", album="Tower", seconds=12.0),
                   ListEntry(path=self._file("b.flac")))  # fmt: skip
        write_list(TrackList(entries=entries, title="T"), self.folder / "l.xspf")
        write_list(read_list(self.folder / "l.xspf"), self.folder / "l.m3u8")
        write_list(read_list(self.folder / "l.m3u8"), self.folder / "again.xspf")
        self.assertEqual((self.folder / "again.xspf").read_text(), (self.folder / "l.xspf").read_text())

    def test_paths_and_encodings_of_other_systems(self) -> None:
        self._file("Musik/Größe.flac")
        self._file("Deep/down/here/Stand.flac")
        for name, raw in (
            ("a.m3u", "Musik\\Größe.flac\r\nC:\\Old\\here\\Stand.flac\r\n".encode("cp1252")),
            ("b.m3u8", "\ufeffMusik/Größe.flac\nStand.flac\n".encode()),
            ("c.m3u", "Musik/Größe.flac\nStand.mp3\n".encode("utf-16")),
            ("d.pls", b"[playlist]\nFile2=Stand.flac\nFile1=Musik/Gr\xf6\xdfe.flac\nNumberOfEntries=2\n"),
        ):
            (self.folder / name).write_bytes(raw)
            entries = read_list(self.folder / name).entries
            self.assertEqual([entry.path.name for entry in entries], ["Größe.flac", "Stand.flac"], name)
            self.assertFalse(any(entry.missing for entry in entries), name)
            self.assertEqual([entry.found_again for entry in entries], [False, True], name)

    def test_a_name_alone_proves_nothing(self) -> None:
        for name in ("Tower/01 Rounds.flac", "Rolls/01 Rounds.flac", "Rolls/01 Rounds.txt", "Other/Waltz.flac"):
            self._file(name)
        for written, found in (
            ("Gone/Tower/01 Rounds.mp3", "Tower/01 Rounds.flac"), ("Gone/01 Rounds.mp3", None),
            ("01 Rounds.mp3", None), ("Waltz.ogg", "Other/Waltz.flac"), ("Bells/Waltz.flac", None),
        ):  # fmt: skip
            with self.subTest(written=written):
                (self.folder / "l.m3u8").write_text(f"{written}\n")
                entry = read_list(self.folder / "l.m3u8").entries[0]
                self.assertEqual(entry.path, self.folder / (found or written))
                self.assertEqual((entry.found_again, entry.missing), (found is not None, found is None))

    def test_length_and_tags_decide_where_they_say_anything(self) -> None:
        write_sound(self.folder / "Elsewhere" / "Rounds.flac", 44_100 * 5)
        (self.folder / "Tower").mkdir()
        write_sound(self.folder / "Tower" / "Peal.flac", 44_100 * 5)
        for lines, found in (
            ("#EXTINF:5,x\nTower/Rounds.flac", True), ("#EXTINF:90,x\nTower/Rounds.flac", False),
            ("Tower/Rounds.flac", False), ("#EXTINF:90,x\nGone/Tower/Peal.flac", False), ("Gone/Tower/Peal.flac", True),
        ):  # fmt: skip
            with self.subTest(lines=lines):
                (self.folder / "l.m3u8").write_text(f"#EXTM3U\n{lines}\n")
                self.assertEqual(read_confirmed_list(self.folder / "l.m3u8").entries[0].found_again, found)

    def test_what_is_really_missing_is_told(self) -> None:
        (self.folder / "l.m3u8").write_text("#EXTM3U\n#EXTINF:-1,Gone\nnowhere.flac\n" + "x" * 5000 + "\n")
        entries = read_list(self.folder / "l.m3u8").entries
        self.assertEqual([entry.seconds for entry in entries], [None, None])
        self.assertTrue(all(entry.missing or not entry.found_again for entry in entries))

    @slow
    def test_addresses_and_odd_names_survive_every_format(self) -> None:
        """Streams and other machines are written as they stand; signs that are no line's end, and blanks at a name's
        beginning, are the name's own."""
        odd = [" blank first.mp3", "two\u2028lines\u0085more\x0b.mp3"]
        for name in odd:
            (self.folder / name).touch()
        addresses = [
            "http://tower.example/live?a=1&b=2",
            "\\\\attic\\tapes\\a.mp3",
            "//attic/tapes/a.mp3",
            "mms://tower.example/x",
        ]
        entries = [ListEntry(path=self.folder / name, title=f"T {n}") for n, name in enumerate(odd)]
        entries += [ListEntry(path=self.folder / "x", written=each, title="live\u2028air") for each in addresses]
        for suffix in (".m3u8", ".pls", ".xspf"):
            names = odd[:1] if suffix == ".xspf" else odd
            kept = [e for e in entries if e.path.name in (*names, "x")]
            write_list(TrackList(entries=tuple(kept)), self.folder / f"list{suffix}")
            found = read_list(self.folder / f"list{suffix}").entries
            self.assertEqual([e.path.name for e in found if not e.missing], names, suffix)
            self.assertEqual([e.written for e in found if e.is_elsewhere], addresses, suffix)
            self.assertEqual(found[-1].title, "live\u2028air", suffix)

    def test_what_an_open_list_says_more_is_kept(self) -> None:
        text = (
            '<?xml version="1.0"?><playlist version="1" xmlns="http://xspf.org/ns/0/"><title>T</title><creator>A. Venning</creator>'
            "<license>by hand</license><trackList><track><location>a.mp3</location><annotation>loud &amp; clear</annotation>"
            "<trackNum>7</trackNum><identifier>x:1</identifier></track></trackList></playlist>"
        )
        (self.folder / "a.xspf").write_text(text)
        write_list(read_list(self.folder / "a.xspf"), self.folder / "b.xspf")
        again = read_list(self.folder / "b.xspf")
        self.assertEqual(again.more, (("creator", "A. Venning"), ("license", "by hand")))
        self.assertEqual(
            dict(again.entries[0].more), {"annotation": "loud & clear", "trackNum": "7", "identifier": "x:1"}
        )

    def test_hostile_lists(self) -> None:
        bomb = '<?xml version="1.0"?><!DOCTYPE p [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><playlist>&b;</playlist>'
        for name, text in (("a.xspf", bomb), ("b.xspf", "<?xml version='1.0'?><other/>"), ("c.xspf", "<?xml"),
                           ("d.m3u", "a\0b"), ("e.pls", "File1=x")):  # fmt: skip
            (self.folder / name).write_text(text)
            with self.assertRaises(PlaylistError):
                read_list(self.folder / name)
        (self.folder / "long.m3u8").write_text("#EXTM3U\n" + "".join(f"{n}.flac\n" for n in range(100_000)))
        self.assertEqual(len(read_list(self.folder / "long.m3u8").entries), 100_000)
        with self.assertRaises(PlaylistError):
            write_list(TrackList(entries=(ListEntry(path=Path("a\nb")),)), self.folder / "x.m3u8")
        with self.assertRaises(PlaylistError):
            write_list(TrackList(entries=()), self.folder / "x.txt")
