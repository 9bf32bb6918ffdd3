"""Where two tracks meet, heard before the disc is written: the very samples of its image."""

from dataclasses import replace

from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.errors import DiscError
from rumbrel.core.workflows.hear_seam import seam_layout, seam_shape, write_seam
from tests.core.disc.case import DiscCase

SECTOR = 2352


class SeamTests(DiscCase):
    def test_it_is_what_the_image_has_there_with_a_gap_and_run_on(self) -> None:
        parts = self.parts(588 * 700, 588 * 800, 588 * 500)
        parts[2] = replace(parts[2], runs_on=True)
        layout = lay_out(parts, gap_sectors=75, medium=medium_for("80"))
        whole = write_image(layout, self.folder / "out", "all").bin_path.read_bytes()
        for number, gap in ((2, 75), (3, 0)):
            seam = seam_layout(layout, number)
            path = self.folder / f"seam {number}.wav"
            write_seam(seam, path)
            at = layout.tracks[number - 1].start_sector
            wanted = whole[(at - gap - 375) * SECTOR : (at + 375) * SECTOR]
            body = path.read_bytes()[len(seam_shape(seam).header) :]
            self.assertEqual(body == wanted, True, number)

    def test_as_it_would_run_on_nothing_lies_between(self) -> None:
        layout = lay_out(self.parts(588 * 700, 588 * 800), gap_sectors=75, medium=medium_for("80"))
        whole = write_image(layout, self.folder / "out", "all").bin_path.read_bytes()
        write_seam(seam := seam_layout(layout, 2, joined=True), self.folder / "on.wav")
        body = (self.folder / "on.wav").read_bytes()[len(seam_shape(seam).header) :]
        at = layout.tracks[1].start_sector
        wanted = whole[(at - 75 - 375) * SECTOR : (at - 75) * SECTOR] + whole[at * SECTOR : (at + 375) * SECTOR]
        self.assertEqual(body == wanted, True)
        for number in (0, 1, 3):
            with self.assertRaisesRegex(DiscError, "none before it"):
                seam_layout(layout, number)
