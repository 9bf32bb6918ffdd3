"""A disc laid out from a cue sheet is that disc: sheets and images made here, by hand, and read back byte for byte."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile

from rumbrel.core.disc.cue_sheet import parse_cue_sheet, read_cue_file
from rumbrel.core.disc.design import left_out, moved, without
from rumbrel.core.disc.image import read_back, write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.inspection.stretches import cut_out
from rumbrel.core.workflows.cut_tracks import cuttings_of
from rumbrel.core.workflows.design_disc import DesignPlan, plan_design
from rumbrel.core.workflows.disc_sounds import Sound
from rumbrel.core.workflows.gather_disc import gather_disc, packs_beside, plan_sheet, sheet_design
from tests.core.disc.case import DiscCase

SECTOR = 2352


def noise(sectors: int, seed: int) -> bytes:
    return np.random.default_rng(seed).integers(-9000, 9000, sectors * SECTOR // 2).astype("<i2").tobytes()


DESCRIBED = (
    'TITLE "Days"', "CATALOG 2904173000523", 'FILE "a.wav" WAVE',
    "TRACK 01 AUDIO", 'TITLE "Peal"', "ISRC XAOSW2400001", "INDEX 00 00:00:00", "INDEX 01 00:01:00",
    "TRACK 02 AUDIO", "FLAGS DCP PRE", "INDEX 00 00:06:30", "INDEX 01 00:07:00", "INDEX 02 00:09:00",
    "TRACK 03 AUDIO", "INDEX 01 00:12:00", "TRACK 04 AUDIO", "PREGAP 00:01:10", "INDEX 00 00:17:50", "INDEX 01 00:18:00",
)  # fmt: skip
"""Sound before track 1 and in gaps, a gap of silence, codes, flags, a mark, and a track that runs on."""


class SheetCase(DiscCase):
    def sheet(self, *lines: str, name: str = "foreign.cue", encoding: str = "utf-8") -> Path:
        path = self.folder / name
        path.write_bytes("\r\n".join(lines).encode(encoding))
        return path

    def planned(self, sheet: Path) -> DesignPlan:
        return plan_sheet(sheet)

    def image(self, sheet: Path, out: str = "out") -> bytes:
        plan = self.planned(sheet)
        self.assertIsNone(plan.failed)
        written = write_image(plan.layout, self.folder / out, "again", text=plan.text)
        self.assertTrue(read_back(written).equal)
        return written.bin_path.read_bytes()


class AgainTests(SheetCase):
    def test_our_own_image_laid_out_again_is_the_same_bytes(self) -> None:
        parts = self.parts(200_001, 210_007, 190_000, 200_000)
        parts[1] = replace(
            parts[1], pre_emphasis=True, copy_permitted=True, gap_sectors=75, index_samples=(58_800, 117_600)
        )
        parts[2] = replace(parts[2], isrc="XAOSW2400002", gap_sectors=0)
        hidden = replace(parts[3], samples=60_000, title="Hidden")
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"), first_pause_sectors=300, hidden=hidden)
        tracks = tuple(
            TrackText(title=f"Peal {n} “dry”", performer="A. Venning", composer="T. Vaerle") for n in range(4)
        )
        text = DiscText(
            disc=TrackText(title="Tower days", message="Hello"),
            tracks=tracks,
            product_code="2904173000523",
            genre_code=3,
        )
        first = write_image(layout, self.folder / "one", "same", text=text)
        plan = self.planned(first.cue_path)
        second = write_image(plan.layout, self.folder / "two", "same", text=plan.text)
        for suffix in (".bin", ".sub", ".cdt", ".digests", ".cue"):
            one, two = (each.cue_path.with_suffix(suffix).read_bytes() for each in (first, second))
            self.assertEqual(one == two, True, suffix)


class DesignedTests(SheetCase):
    """A design that is made of a sheet and of the parts that it cuts a file into is the very disc of that sheet."""

    def designed(self, sheet: Path, file: Path) -> DesignPlan:
        (cutting,) = [each for each in cuttings_of(inspect_file(file)) if each.key.startswith("sheet")]
        whole = inspect_file(file)
        sounds = {n: Sound(facts=cut_out(whole, part), title=f"Track {n}") for n, part in enumerate(cutting.parts, 1)}
        said = read_cue_file(sheet)
        files = {said.tracks[0].file}
        design = sheet_design(
            said, list(sounds), wholes=dict.fromkeys(files, 0), facts=dict.fromkeys(files, whole),
            packs=packs_beside(sheet, said),
        )  # fmt: skip
        return plan_design(design, sounds)

    def test_it_is_written_byte_for_byte_as_the_sheet_itself(self) -> None:
        for rate in (44_100, 48_000):
            sound = np.frombuffer(noise(2400, 9), "<i2").reshape(-1, 2)[: rate * 24]
            soundfile.write(self.folder / "a.wav", sound, rate, subtype="PCM_16")
            sheet = self.sheet(*DESCRIBED)
            by_sheet, by_design = self.planned(sheet), self.designed(sheet, self.folder / "a.wav")
            by_design = replace(by_design, text=replace(by_design.text, disc=by_sheet.text.disc))
            self.assertIsNone(by_design.failed)
            images = []
            for name, plan in (("sheet", by_sheet), ("design", by_design)):
                # The noise of dither falls by the blocks in which a file is read.
                layout = replace(plan.layout, dither="none")
                images.append(write_image(layout, self.folder / f"{name} {rate}", "same", text=plan.text))
            for suffix in (".bin", ".sub", ".cdt", ".digests", ".cue"):
                one, two = (each.cue_path.with_suffix(suffix).read_bytes() for each in images)
                self.assertEqual(one == two, True, f"{suffix} at {rate}")
            self.assertEqual([track.lead_sectors for track in by_design.layout.tracks], [0, 45, 0, 25])

    def test_what_had_another_before_it_keeps_nothing_of_that(self) -> None:
        soundfile.write(
            self.folder / "a.wav", np.frombuffer(noise(2000, 9), "<i2").reshape(-1, 2), 44_100, subtype="PCM_16"
        )
        plan = self.designed(self.sheet(*DESCRIBED), self.folder / "a.wav")
        for changed in (without(plan.design, [1]), left_out(plan.design, [1], True), moved(plan.design, [2], None)):
            second = changed.track(2)
            self.assertEqual((second.runs_on, second.lead_sectors), (False, 0))
            self.assertEqual(
                (changed.track(4).lead_sectors, changed.track(3).runs_on), (25, changed.tracks[-1].key != 2)
            )


class ForeignTests(SheetCase):
    def test_gaps_hold_the_sound_that_they_held(self) -> None:
        """Sound before track 1 and in a gap, no gap where there was none, silence only where the sheet adds it."""
        body = noise(2000, 1)
        (self.folder / "a.bin").write_bytes(body)
        sheet = self.sheet(
            'FILE "a.bin" BINARY', "TRACK 01 AUDIO", "INDEX 00 00:00:00", "INDEX 01 00:01:00",
            "TRACK 02 AUDIO", "FLAGS DCP PRE", "INDEX 00 00:06:30", "INDEX 01 00:07:00", "INDEX 02 00:09:00",
            "TRACK 03 AUDIO", "INDEX 01 00:12:00", "POSTGAP 00:00:20",
            "TRACK 04 AUDIO", "PREGAP 00:01:10", "INDEX 01 00:18:00",
        )  # fmt: skip
        silence = bytes(SECTOR * (20 + 85))
        cut = 18 * 75 * SECTOR
        self.assertEqual(self.image(sheet), body[:cut] + silence + body[cut:])
        tracks = self.planned(sheet).layout.tracks
        self.assertEqual([t.start_sector for t in tracks], [75, 525, 900, 1350 + 105])
        self.assertEqual([t.gap_sectors for t in tracks], [75, 45, 0, 85])
        self.assertEqual([t.sectors for t in tracks], [405, 375, 470, 650])
        self.assertEqual((tracks[1].programme.pre_emphasis, tracks[1].programme.copy_permitted), (True, True))
        self.assertEqual(tracks[1].index_sectors, (675,))

    def test_sound_before_track_1_needs_no_index_0_and_a_pregap_is_silence(self) -> None:
        body = noise(800, 2)
        (self.folder / "a.bin").write_bytes(body)
        self.assertEqual(self.image(self.sheet('FILE "a.bin" BINARY', "TRACK 01 AUDIO", "INDEX 01 00:01:00")), body)
        pregap = self.sheet('FILE "a.bin" BINARY', "TRACK 01 AUDIO", "PREGAP 00:00:32", "INDEX 01 00:00:00")
        self.assertEqual(self.image(pregap, "two"), bytes(32 * SECTOR) + body)

    def test_files_for_each_track_of_every_kind(self) -> None:
        """BIN, bytes the other way round, WAV and FLAC; the gap of a track at the end of the file before."""
        bodies = [noise(500, seed) for seed in (3, 4, 5, 6)]
        (self.folder / "1.bin").write_bytes(bodies[0])
        (self.folder / "2.bin").write_bytes(np.frombuffer(bodies[1], "<i2").astype(">i2").tobytes())
        for name, body in (("3.wav", bodies[2]), ("4.flac", bodies[3])):
            soundfile.write(self.folder / name, np.frombuffer(body, "<i2").reshape(-1, 2), 44_100, subtype="PCM_16")
        sheet = self.sheet(
            'FILE "1.bin" BINARY', "TRACK 01 AUDIO", "INDEX 01 00:00:00",
            "TRACK 02 AUDIO", "INDEX 00 00:06:00", 'FILE "2.bin" MOTOROLA', "INDEX 01 00:00:00",
            'FILE "3.wav" WAVE', "TRACK 03 AUDIO", "INDEX 00 00:00:00", "INDEX 01 00:00:30",
            "TRACK 04 AUDIO", 'FILE "4.flac" WAVE', "INDEX 01 00:00:00",
        )  # fmt: skip
        self.assertEqual(self.image(sheet), b"".join(bodies))
        tracks = self.planned(sheet).layout.tracks
        self.assertEqual([t.gap_sectors for t in tracks], [0, 50, 30, 0])
        self.assertEqual([t.start_sector for t in tracks], [0, 500, 1030, 1500])

    def test_a_mixed_disc_gives_its_sound_and_data_is_never_read_as_music(self) -> None:
        sync = b"\0" + b"\xff" * 10 + b"\0"
        data, body = (sync + bytes(SECTOR - 12)) * 400, noise(700, 7)
        (self.folder / "mixed.bin").write_bytes(data + body)
        mixed = self.sheet(
            'FILE "mixed.bin" BINARY', "TRACK 01 MODE1/2352", "INDEX 01 00:00:00",
            "TRACK 02 AUDIO", "PREGAP 00:02:00", "INDEX 01 00:05:25", "TRACK 03 AUDIO", "INDEX 01 00:10:00",
        )  # fmt: skip
        self.assertEqual(read_cue_file(mixed).data_tracks, (1,))
        self.assertEqual(self.image(mixed), body)
        lies = self.sheet('FILE "mixed.bin" BINARY', "TRACK 01 AUDIO", "INDEX 01 00:00:00")
        with self.assertRaisesRegex(DiscError, "raw sectors of data"):
            gather_disc([lies])
        (self.folder / "data.bin").write_bytes(bytes(32_769) + b"CD001" + bytes(SECTOR * 400))
        iso = self.sheet('FILE "data.bin" BINARY', "TRACK 01 AUDIO", "INDEX 01 00:00:00")
        with self.assertRaisesRegex(DiscError, "image of a data disc"):
            gather_disc([iso])
        odd = 'FILE "a.bin" BINARY\nTRACK 01 MODE1/2048\nINDEX 01 00:00:00\nTRACK 02 AUDIO\nINDEX 01 00:10:00'
        with self.assertRaisesRegex(DiscError, "different lengths"):
            parse_cue_sheet(odd)
        with self.assertRaisesRegex(DiscError, "data alone"):
            parse_cue_sheet(odd.replace("AUDIO", "MODE1/2352"))

    def test_sheets_as_others_write_them(self) -> None:
        lines = ("PERFORMER\t\"M. Orrel\"", 'FILE\t"a b.wav"\tWAVE', "  TRACK\t01\tAUDIO", '\tTITLE "Größe "Höhe" \u2028 ende"',
                 "\tINDEX 01\t00:00:00")  # fmt: skip
        for encoding in ("utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be"):
            sheet = read_cue_file(self.sheet(*lines, encoding=encoding))
            self.assertEqual(sheet.tracks[0].title, 'Größe "Höhe" \u2028 ende', encoding)
            self.assertEqual((sheet.performer, sheet.tracks[0].file.name), ("M. Orrel", "a b.wav"))
        western = read_cue_file(self.sheet(*[line.replace("\u2028", "") for line in lines], encoding="cp1252"))
        self.assertEqual(western.tracks[0].title, 'Größe "Höhe"  ende')

    def test_codes_are_written_as_a_disc_holds_them_and_wrong_ones_fail(self) -> None:
        (self.folder / "a.bin").write_bytes(noise(400, 8))
        lines = [
            "CATALOG 0-36000 29145-2",
            'FILE "a.bin" BINARY',
            "TRACK 01 AUDIO",
            "ISRC xa-osw-24-00001",
            "INDEX 01 00:00:00",
        ]
        plan = self.planned(self.sheet(*lines))
        self.assertEqual((plan.text.product_code, plan.text.tracks[0].isrc), ("0036000291452", "XAOSW2400001"))
        image = write_image(plan.layout, self.folder / "out", "codes", text=plan.text)
        said = image.cue_path.read_text()
        self.assertIn("CATALOG 0036000291452", said)
        self.assertIn("ISRC XAOSW2400001", said)
        wrong = self.planned(self.sheet(*[line.replace("00001", "0001") for line in lines]))
        self.assertEqual(wrong.failed and wrong.failed.code, "codes")
        wrong = self.planned(self.sheet(*[line.replace("29145-2", "29145-3") for line in lines]))
        self.assertIsNotNone(wrong.failed)

    def test_a_text_reaches_every_form_of_a_disc(self) -> None:
        parts = self.parts(200_000, 200_000)
        layout = lay_out(parts, gap_sectors=0, medium=medium_for("74"))
        text = DiscText(
            disc=TrackText(title="Said"),
            tracks=tuple(TrackText(title=f"Said {n}", isrc=f"XAOSW240000{n}") for n in (1, 2)),
        )
        for form in ("bin", "wav", "flac"):
            image = write_image(layout, self.folder / form, "said", text=text, image_format=form)
            sheet = read_cue_file(image.cue_path)
            self.assertEqual(
                [(t.title, t.isrc) for t in sheet.tracks], [("Said 1", "XAOSW2400001"), ("Said 2", "XAOSW2400002")]
            )
        self.assertTrue((self.folder / "wav" / "said" / "01 Said 1.wav").is_file())
        q = np.frombuffer((self.folder / "bin" / "said.sub").read_bytes(), np.uint8).reshape(-1, 96)[:, 12:24]
        self.assertEqual(set(q[q[:, 0] & 15 == 3][:, 1:9].tobytes().hex()[:10]) > set(), True)
        self.assertEqual(len({bytes(row[1:9]) for row in q[q[:, 0] & 15 == 3]}), 2, "an ISRC for each track")
