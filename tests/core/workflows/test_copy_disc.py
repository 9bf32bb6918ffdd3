"""A disc is copied as it is: every byte of sound, subcode, texts and sheet; where that cannot be, nothing is written."""

from dataclasses import replace

from rumbrel.core.bench.drive import DriveKind, StandInDrive, drive_for, drive_with
from rumbrel.core.disc.image import DiscImage, write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.errors import DiscError
from rumbrel.core.workflows.copy_disc import CopyReport, copy_lines, plan_copy, read_whole_disc, write_copy
from tests.core.disc.case import DiscCase
from tests.signals import leftovers


class CopyTests(DiscCase):
    def disc(self) -> DiscImage:
        """With everything that a disc can hold: hidden sound, an odd gap, none, sound in a gap, indexes, flags, codes."""
        parts = self.parts(200_001, 210_007, 190_000, 200_000)
        parts[1] = replace(
            parts[1], pre_emphasis=True, copy_permitted=True, gap_sectors=75, index_samples=(58_800, 117_600),
            lead=replace(parts[3], samples=20_000),
        )  # fmt: skip
        parts[2] = replace(parts[2], gap_sectors=0)
        layout = lay_out(parts[:3], gap_sectors=150, medium=medium_for("80"), hidden=replace(parts[3], samples=60_000))
        tracks = tuple(
            TrackText(title=f"Peal {n}", performer="A. Venning", songwriter="M. Orrel", isrc=f"XAOSW240000{n}")
            for n in (1, 2, 3)
        )
        text = DiscText(
            disc=TrackText(title="Tower days", message="For the ringers"), tracks=tracks, product_code="2904173000523",
            genre_code=11, disc_id="TD-1",
        )  # fmt: skip
        return write_image(layout, self.folder / "disc", "tower", text=text)

    def copied(self, image: DiscImage, kind: DriveKind) -> CopyReport:
        work = self.folder / "work"
        work.mkdir(exist_ok=True)
        source = read_whole_disc(StandInDrive(image.cue_path, kind), work)
        return write_copy(source, plan_copy(source, title="tower"), self.folder / "copy", "tower", speed=8)

    def test_every_file_of_the_image_is_the_same_whatever_the_drive(self) -> None:
        image = self.disc()
        scratched = drive_with(drive_for("early"), drive_for("scratched"))
        for kind in (drive_for("clean"), drive_for("early"), scratched):
            with self.subTest(kind=kind.key):
                report = self.copied(image, kind)
                self.assertTrue(report.identical, report.lines)
                self.assertTrue(all(line.there for line in report.lines), report.lines)
                for suffix in (".bin", ".sub", ".cdt", ".cue", ".digests"):
                    one, two = (each.cue_path.with_suffix(suffix).read_bytes() for each in (image, report.image))
                    self.assertEqual(one == two, True, suffix)
        self.assertEqual(leftovers(self.folder / "copy"), [])

    def test_a_plain_disc_has_nothing_to_lose(self) -> None:
        parts = self.parts(200_001, 210_007)
        layout = lay_out(parts, gap_sectors=150, medium=medium_for("80"))
        image = write_image(layout, self.folder / "disc", "tower")
        image.cue_path.with_suffix(".cdt").unlink()
        lines = [line for line in image.cue_path.read_text().splitlines() if not line.startswith("CDTEXTFILE")]
        image.cue_path.write_text("\n".join(lines) + "\n")
        report = self.copied(image, drive_for("clean"))
        there = {line.what for line in report.lines if line.there}
        self.assertEqual(there, {"samples of the tracks", "gaps with their sound", "where tracks begin"})
        self.assertTrue(report.identical)
        self.assertFalse(report.image.cue_path.with_suffix(".cdt").exists())
        self.assertEqual(report.image.cue_path.read_text(), image.cue_path.read_text())

    def test_what_cannot_be_read_alike_is_not_copied(self) -> None:
        image = self.disc()
        broken = replace(drive_for("clean"), dead=3.0)
        for kind, said in ((broken, "could not be read"), (drive_for("offset"), "beyond this drive's reach")):
            with self.assertRaisesRegex(DiscError, said):
                self.copied(image, kind)
            self.assertFalse((self.folder / "copy").exists())

    def test_a_copy_that_is_another_is_told_by_what_differs(self) -> None:
        image = self.disc()
        work = self.folder / "work"
        work.mkdir()
        source = read_whole_disc(StandInDrive(image.cue_path, drive_for("clean")), work)
        plan = plan_copy(source, title="tower")
        data = bytearray(source.bin_path.read_bytes())
        first = source.contents.tracks[1].start_sector
        for sector, what in (
            (3, "what lies before track 1"),
            (first - 3, "gaps with their sound"),
            (first, "samples of the tracks"),
        ):
            with self.subTest(what=what):
                report = write_copy(source, plan, self.folder / "copy", "tower", speed=8)
                self.assertTrue(report.identical)
                wrong = bytearray(data)
                wrong[sector * BYTES_PER_SECTOR] ^= 1
                source.bin_path.write_bytes(wrong)
                lines = copy_lines(source, report.image)
                self.assertEqual([line.what for line in lines if not line.same], [what])
                source.bin_path.write_bytes(data)
