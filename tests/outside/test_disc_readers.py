"""Discs read by libcdio and isoinfo, which know nothing of Rumbrel."""

import ctypes
import ctypes.util
import os
import re
import shutil
import subprocess
import tempfile
import unicodedata
from dataclasses import replace
from pathlib import Path
from unittest import TestCase

from mutagen.flac import FLAC

from rumbrel.core.disc.data_disc import DataFile, read_back_data, write_data_disc
from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.packs import decode_packs, encode_packs, fullest_text
from rumbrel.core.disc.text import GENRES, DiscText, TrackText
from rumbrel.core.errors import DiscError
from rumbrel.core.workflows.make_disc import data_files
from tests.core.disc.test_layout import programme
from tests.signals import write_sound


def run(*command: str) -> str:
    environment = {**os.environ, "LC_ALL": "C.UTF-8"}
    return subprocess.run(command, capture_output=True, text=True, errors="replace", env=environment).stdout


class OutsideCase(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)


class AudioDiscTests(OutsideCase):
    def setUp(self) -> None:
        super().setUp()
        parts = []
        for number in (1, 2, 3):
            path = write_sound(self.folder / f"{number}.wav", 300_000 + number, seed=number)
            part = programme(str(path), 300_000 + number, f"Peal {number}")
            parts.append(replace(part, performer="A. Venning", isrc=f"XAOSW240000{number}"))
        parts[1] = replace(parts[1], pre_emphasis=True, copy_permitted=True, gap_sectors=75, index_samples=(58_800,))
        self.layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        tracks = tuple(
            TrackText(title=p.title, performer="The Ringers", composer="T. Vaerle", isrc=p.isrc) for p in parts
        )
        disc = TrackText(title="Tower days", performer="The Ringers", composer="Various")
        self.text = DiscText(disc=disc, tracks=tracks, product_code="2904173000523")
        self.image = write_image(self.layout, self.folder, "shop", text=self.text)

    def _info(self, cue: Path) -> str:
        return run("cd-info", "--no-header", "--no-device-info", "--cue-file", str(cue))

    def test_contents_flags_and_codes(self) -> None:
        text = self._info(self.image.cue_path)
        rows = re.findall(
            r"^\s*(\d+): \d\d:\d\d:\d\d\s+(\d+) (?:audio|leadout)(?:\s+\w+\s+(\w+)\s+2\s+(\w+))?", text, re.M
        )
        starts = {int(row[0]): int(row[1]) for row in rows}
        self.assertEqual([starts[n] for n in (1, 2, 3)], [track.start_sector for track in self.layout.tracks])
        self.assertEqual(starts[170], self.layout.total_sectors)
        self.assertEqual([row[2:] for row in rows[:3]], [("no", "no"), ("yes", "yes"), ("no", "no")])
        self.assertIn("(MCN): 2904173000523", text)
        self.assertEqual(re.findall(r"ISRC: (\w+)", text), ["XAOSW2400001", "XAOSW2400002", "XAOSW2400003"])

    def test_indexes(self) -> None:
        """INDEX 00 and 01 of every track as the library itself holds them."""
        library = ctypes.CDLL(ctypes.util.find_library("cdio"))
        library.cdio_open_cue.restype = ctypes.c_void_p
        for name in ("cdio_get_track_lsn", "cdio_get_track_pregap_lsn", "cdio_get_track_last_lsn"):
            getattr(library, name).argtypes = [ctypes.c_void_p, ctypes.c_ubyte]
        disc = library.cdio_open_cue(str(self.image.cue_path).encode())
        self.assertTrue(disc)
        for track in self.layout.tracks:
            self.assertEqual(library.cdio_get_track_lsn(disc, track.number), track.start_sector)
            if track.gap_sectors:
                before = library.cdio_get_track_pregap_lsn(disc, track.number)
                self.assertEqual(before, track.start_sector - track.gap_sectors)
        self.assertEqual(library.cdio_get_track_last_lsn(disc, 3), self.layout.total_sectors - 1)
        library.cdio_destroy(ctypes.c_void_p(disc))

    def test_the_packs_alone_give_the_texts(self) -> None:
        """A sheet without titles, so that what is read comes from the packs."""
        bare = self.folder / "bare" / "shop.cue"
        bare.parent.mkdir()
        for suffix in (".bin", ".cdt"):
            shutil.copy(self.image.cue_path.with_suffix(suffix), bare.parent)
        lines = self.image.cue_path.read_text().splitlines()
        kept = [line for line in lines if line.strip().split(" ")[0] in ("CDTEXTFILE", "FILE", "TRACK", "INDEX")]
        bare.write_text("\n".join(kept) + "\n")
        text = self._info(bare)
        self.assertEqual(re.findall(r"TITLE: (.*)", text), ["Tower days", "Peal 1", "Peal 2", "Peal 3"])
        self.assertEqual(re.findall(r"COMPOSER: (.*)", text), ["Various"] + ["T. Vaerle"] * 3)
        self.assertEqual(re.findall(r"PERFORMER: (.*)", text), ["The Ringers"] * 4)
        self.assertEqual(re.findall(r"ISRC: (.*)", text), [track.isrc for track in self.text.tracks])

    def test_a_japanese_block_and_the_genres_as_the_library_has_them(self) -> None:
        """libcdio reads both blocks, and its names of genres stand for the same numbers as ours."""
        titles = ("鐘の音", "塔の日 2", "ベル、ABC")
        plain = DiscText(
            disc=TrackText(title="To no hi", performer="Various"), genre_code=5, product_code="2904173000523",
            tracks=tuple(TrackText(title=f"Kane {n}", performer="The Ringers") for n in range(3)),
        )  # fmt: skip
        japanese = replace(
            plain, disc=TrackText(title="塔の日々", performer="色々"),
            tracks=tuple(TrackText(title=title, performer="鳴らし手") for title in titles),
        )  # fmt: skip
        packs, _ = encode_packs(plain, japanese)
        self.assertEqual(decode_packs(packs), plain)
        self.assertEqual([track.title for track in fullest_text(packs).tracks], list(titles))
        library = ctypes.CDLL(ctypes.util.find_library("cdio"))
        library.cdtext_init.restype = library.cdtext_get_const.restype = ctypes.c_void_p
        library.cdtext_get_const.argtypes = [ctypes.c_void_p, ctypes.c_int, ctypes.c_ubyte]
        library.cdtext_data_init.argtypes = [ctypes.c_void_p, ctypes.c_char_p, ctypes.c_size_t]
        library.cdtext_select_language.argtypes = [ctypes.c_void_p, ctypes.c_int]
        library.cdtext_genre2str.restype = ctypes.c_char_p
        text = library.cdtext_init()
        self.assertEqual(library.cdtext_data_init(text, packs, len(packs)), 0)

        def said(field: int, track: int) -> str:
            found = library.cdtext_get_const(text, field, track)
            return ctypes.string_at(found).decode() if found else ""

        for language, wanted in ((0x09, plain), (0x69, japanese)):
            self.assertTrue(library.cdtext_select_language(text, language), language)
            shown = [unicodedata.normalize("NFKC", said(0, number)) for number in range(4)]
            self.assertEqual(shown, [wanted.disc.title, *(track.title for track in wanted.tracks)])
            self.assertEqual(said(1, 3), wanted.tracks[2].performer)
        # From 26 on its header and its names differ: the header has the soundtrack there, as we have.
        for number in range(2, 26):
            theirs = library.cdtext_genre2str(number).decode().lower()
            ours = GENRES[number].lower().replace(" and ", " & ")
            theirs, ours = ("".join(filter(str.isalnum, name)) for name in (theirs, ours))
            self.assertTrue(theirs.startswith(ours), (number, theirs, ours))


class DataDiscTests(OutsideCase):
    def _disc(self) -> Path:
        names = ["Größe – Höhe 🔔.flac", "a" * 90 + ".flac", "a" * 90 + "b.flac", "What?.flac", "what-.flac"]
        files = []
        for number, name in enumerate(names):
            path = write_sound(self.folder / f"{number}.flac", 9_000 + number)
            files.append(DataFile(path=path, folder="Tower days" if number < 3 else "Rolls; barrel", name=name))
        self.files = files
        return write_data_disc(files, self.folder / "out", "Tour stick", medium=medium_for("74"))

    def test_isoinfo_and_libcdio_list_the_names_and_the_bytes(self) -> None:
        iso = self._disc()
        # isoinfo prints Joliet names in ISO 8859-1.
        raw = subprocess.run(["isoinfo", "-J", "-f", "-i", str(iso)], capture_output=True).stdout
        listing = raw.decode("latin-1").splitlines()
        self.assertIn("/Tower days", listing)
        self.assertIn("/Rolls, barrel", listing)
        longest = max(len(name.rsplit("/", 1)[1]) for name in listing)
        self.assertLessEqual(longest, 64)
        self.assertEqual(len({name.casefold() for name in listing}), len(listing))
        self.assertEqual(sum(name.endswith(".flac") for name in listing), 5)
        first = next(name for name in listing if "Größe" in name)
        data = subprocess.run(
            ["isoinfo", "-J", "-i", str(iso), "-x", first.encode("latin-1")], capture_output=True
        ).stdout
        self.assertEqual(data, self.files[0].path.read_bytes())
        play = subprocess.run(["isoinfo", "-J", "-i", str(iso), "-x", "/Tower days/Play all.m3u"], capture_output=True)
        entries = play.stdout.decode("cp1252").splitlines()[1:]
        shown = {n for n in listing if n.startswith("/Tower days/") and n.endswith("flac")}
        self.assertEqual({"/Tower days/" + entry.replace("–", "_") for entry in entries}, shown)
        plain = run("isoinfo", "-f", "-i", str(iso)).splitlines()
        self.assertTrue(
            all(re.fullmatch(r"[A-Z0-9_]{1,8}(\.[A-Z0-9_]{0,3})?(;1)?", n.rsplit("/", 1)[1]) for n in plain)
        )
        shown = run("iso-info", "-l", "-i", str(iso))
        self.assertIn("TOUR_STICK", run("iso-info", "-d", "-i", str(iso)) + shown)

    def test_names_of_every_script_are_counted_by_their_characters(self) -> None:
        """Up to 64 of them, whatever bytes they would take in UTF-8; the list's encoding fits its ending."""
        names = ["Утренний перезвон с северной башни, полный колокольный набор " + "аб.mp3", "夜の番" * 20 + ".mp3"]
        self.assertEqual([len(name) for name in names], [67, 64])
        files = []
        for number, name in enumerate(names):
            path = self.folder / f"{number}.mp3"
            path.write_bytes(bytes([number]) * 3000)
            files.append(DataFile(path=path, folder="Колокола и органы: всё, что звучит в этой башне", name=name))
        given: list[tuple[str, Path]] = []
        iso = write_data_disc(
            files,
            self.folder / "out",
            "Any",
            medium=medium_for("74"),
            prove=lambda image, each: given.extend(each) or True,
        )
        self.assertTrue(iso and all(verdict.equal for verdict in read_back_data(iso, given)))
        self.assertEqual(max(len(Path(name).name) for name, _ in given), 64)
        self.assertEqual(Path(given[1][0]).name, names[1])
        raw = iso.read_bytes()
        for name, _ in given:
            self.assertIn(Path(name).name.encode("utf-16-be"), raw, "as Joliet writes it")
        listing = subprocess.run(["isoinfo", "-J", "-f", "-i", str(iso)], capture_output=True).stdout.splitlines()
        self.assertEqual(sorted(line.endswith(b".mp3") for line in listing), [False] * (len(listing) - 2) + [True] * 2)
        self.assertTrue(any(line.endswith(b"Play all.m3u8") for line in listing))

    def test_albums_of_one_title_do_not_share_a_folder_and_order_goes_into_names(self) -> None:
        for number, performer in enumerate(("M. Orrel", "A. Venning")):
            path = write_sound(self.folder / "in" / f"{number}.flac", 9_000)
            tagged = FLAC(path)
            tagged["album"], tagged["artist"] = "Rolls", performer
            tagged.save()
        files = data_files([self.folder / "in"])
        self.assertEqual([file.folder for file in files], ["M. Orrel - Rolls", "A. Venning - Rolls"])
        numbered = data_files([self.folder / "in"], numbered=True)
        self.assertEqual([(file.folder, file.name) for file in numbered], [("", "001 0.flac"), ("", "002 1.flac")])

    def test_what_does_not_fit_or_is_missing_is_refused(self) -> None:
        from unittest import mock

        with mock.patch("rumbrel.core.disc.data_disc._size", return_value=700_000_000):
            with self.assertRaisesRegex(DiscError, "74 minute"):
                self._disc()
        with self.assertRaisesRegex(DiscError, "not there"):
            write_data_disc(
                [DataFile(path=Path("/nowhere/a"), folder="", name="a")], self.folder, "x", medium=medium_for("74")
            )
        self.assertEqual(list(self.folder.glob("*.iso")), [])
