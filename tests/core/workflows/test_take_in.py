"""A disc taken in keeps what it says beside its sound: laid out again from the sheet, it is the disc."""

import json
import math
from dataclasses import replace
from pathlib import Path

import mutagen
import numpy as np
import soundfile

from rumbrel.core.bench.drive import StandInDrive, drive_for
from rumbrel.core.bench.image_disc import open_image
from rumbrel.core.disc.image import DiscImage, write_image
from rumbrel.core.disc.layout import lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.proof import digests_beside
from rumbrel.core.disc.red_book import BYTES_PER_SECTOR
from rumbrel.core.disc.text import DiscText, TrackText
from rumbrel.core.forecast import ForecastOptions
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment, build_chain
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.design_disc import plan_design
from rumbrel.core.workflows.gather_disc import gather_disc, plan_sheet
from rumbrel.core.workflows.take_in import TakenTrack, plan_take_in, take_in
from tests.core.disc.case import DiscCase


class TakeInTests(DiscCase):
    def disc(self) -> DiscImage:
        parts = self.parts(200_001, 210_007, 190_000, 200_000)
        parts[1] = replace(
            parts[1], pre_emphasis=True, copy_permitted=True, gap_sectors=75, index_samples=(58_800, 117_600)
        )
        parts[2] = replace(parts[2], gap_sectors=0)
        layout = lay_out(parts[:3], gap_sectors=150, medium=medium_for("80"), hidden=replace(parts[3], samples=60_000))
        tracks = tuple(TrackText(title=f"Peal {n}", performer="A. Venning", isrc=f"XAOSW240000{n}") for n in (1, 2, 3))
        text = DiscText(disc=TrackText(title="Tower days"), tracks=tracks, product_code="2904173000523")
        return write_image(layout, self.folder / "disc", "tower", text=text)

    def taken(self, cue: Path, out: str = "out", condition: str = "clean", **more: bool) -> list[TakenTrack]:
        drive = StandInDrive(cue, drive_for(condition))
        plan = plan_take_in(
            drive.contents(), target=find_target("archive-flac"), destination=self.folder / out,
            options=ForecastOptions(), written=digests_beside(cue), **more,
        )  # fmt: skip
        (self.folder / "work").mkdir(exist_ok=True)
        self.where = self.folder / out / plan.folder_name
        return list(take_in(plan, drive, self.folder / "work", drive_label=condition, jobs=2))

    def test_laid_out_again_it_is_the_disc(self) -> None:
        image = self.disc()
        tracks = self.taken(image.cue_path, hidden=True)
        self.assertEqual([track.reading.number for track in tracks], [0, 1, 2, 3])
        self.assertEqual([track.reading.as_written for track in tracks], [True, True, True, True])
        self.assertTrue(all(track.ok and track.reading.verdict == "passed" for track in tracks))
        sheet = self.where / "Tower days.cue"
        again = plan_sheet(sheet)
        self.assertIsNone(again.failed)
        second = write_image(again.layout, self.folder / "again", "tower", text=again.text)
        for suffix in (".bin", ".sub", ".cdt", ".digests"):
            one, two = (each.cue_path.with_suffix(suffix).read_bytes() for each in (image, second))
            self.assertEqual(one == two, True, suffix)
        tags = mutagen.File(self.where / "02 Peal 2.flac")
        self.assertEqual((tags["isrc"], tags["barcode"]), (["XAOSW2400002"], ["2904173000523"]))
        log = json.loads((self.where / "Tower days.log.json").read_text())
        self.assertEqual(log["product_code"], "2904173000523")
        said = log["tracks"][2]
        self.assertEqual(
            (said["pre_emphasis"], said["copy_permitted"], said["indexes_msf"]), (True, True, ["0:01:25", "0:02:50"])
        )

    def test_another_image_than_was_written_is_told(self) -> None:
        image = self.disc()
        data = bytearray(image.bin_path.read_bytes())
        data[-1000] ^= 1
        image.bin_path.write_bytes(data)
        last = self.taken(image.cue_path)[-1].reading
        self.assertEqual((last.as_written, str(last.verdict)), (False, "doubtful"))
        self.assertEqual(last.differs, "the track")

    def test_sound_in_a_gap_that_was_not_written_there_is_told(self) -> None:
        image = self.disc()
        second = open_image(image.cue_path).contents.tracks[1]
        data = bytearray(image.bin_path.read_bytes())
        data[(second.start_sector - 10) * BYTES_PER_SECTOR] ^= 1
        data[5 * BYTES_PER_SECTOR] ^= 1
        image.bin_path.write_bytes(data)
        readings = [track.reading for track in self.taken(image.cue_path, hidden=True)]
        self.assertEqual([reading.differs for reading in readings], ["the track", "the gap behind it", "", ""])
        self.assertEqual([str(reading.verdict) for reading in readings], ["doubtful", "doubtful", "passed", "passed"])

    def test_the_sheets_own_names_where_there_is_no_cd_text(self) -> None:
        image = self.disc()
        lines = [line for line in image.cue_path.read_text().splitlines() if not line.startswith("CDTEXTFILE")]
        image.cue_path.write_text("\n".join(lines) + "\n")
        self.taken(image.cue_path)
        self.assertEqual(
            sorted(path.name for path in self.where.glob("*.flac")), [f"0{n} Peal {n}.flac" for n in (1, 2, 3)]
        )

    def test_pre_emphasis_is_taken_out_by_the_analogue_curve(self) -> None:
        """50 and 15 us (IEC 60908): power of (1 + (2 pi f 15e-6)^2) / (1 + (2 pi f 50e-6)^2)."""
        shape = SoundShape(sample_rate=44_100, channels=1, depth_bits=0)
        for hertz in (20, 1_000, 3_000, 8_000, 12_000, 16_000, 20_000):
            tone = 0.5 * np.sin(2 * np.pi * hertz * np.arange(44_100) / 44_100)[:, None].astype(np.float32)
            out = build_chain(shape, shape, Treatment(deemphasis=True)).push(tone)[4_410:]
            measured = 20 * math.log10(float(np.std(out) / np.std(tone[4_410:])))
            w = 2 * math.pi * hertz
            self.assertAlmostEqual(
                measured, 10 * math.log10((1 + (w * 15e-6) ** 2) / (1 + (w * 50e-6) ** 2)), delta=0.02
            )
        image = self.disc()
        self.taken(image.cue_path, "plain")
        plain, _ = soundfile.read(self.where / "02 Peal 2.flac")
        emphasised = inspect_file(self.where / "02 Peal 2.flac")
        self.assertEqual(emphasised.tags.first("pre_emphasis"), "50/15 µs")
        again = gather_disc([self.where / "01 Peal 1.flac", self.where / "02 Peal 2.flac"])
        flags = [t.programme.pre_emphasis for t in plan_design(again.design, again.sounds).layout.tracks]
        self.assertEqual(flags, [False, True], "laid on a disc, the file gets its flag again")
        self.taken(image.cue_path, "softer", deemphasis=True)
        self.assertEqual(inspect_file(self.where / "02 Peal 2.flac").tags.first("pre_emphasis"), "")
        softer, _ = soundfile.read(self.where / "02 Peal 2.flac")
        self.assertEqual(len(plain), len(softer))
        self.assertLess(np.std(softer), np.std(plain))
        self.assertNotIn("PRE", (self.where / "Tower days.cue").read_text().split())
        first = [
            soundfile.read(self.folder / each / "Tower days" / "01 Peal 1.flac")[0] for each in ("plain", "softer")
        ]
        np.testing.assert_array_equal(*first)
