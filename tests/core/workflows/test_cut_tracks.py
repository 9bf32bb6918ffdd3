"""One file that falls into tracks: by what says so, to the sample, and never beyond the file."""

from pathlib import Path

import numpy as np
from mutagen.flac import FLAC, CueSheet, CueSheetTrack, CueSheetTrackIndex

from rumbrel.core.conversion import carry_out
from rumbrel.core.errors import DecodeError
from rumbrel.core.forecast import forecast_batch, gather_sources
from rumbrel.core.inspection import inspect_file
from rumbrel.core.inspection.stretches import Part, cut_out, part_of
from rumbrel.core.tags import Chapter, TagSet, write_tags
from rumbrel.core.targets import find_target
from rumbrel.core.workflows.cut_tracks import cuttings_of, parted
from tests.core.case import FolderCase
from tests.signals import convert_one, decoded, music, write_film, write_sound

SHEET = """PERFORMER "The Trust"
TITLE "Tower days"
FILE "{name}" WAVE
  TRACK 01 AUDIO
    TITLE "Morning peal"
    PERFORMER "A. Venning"
    ISRC XA1002600001
    INDEX 01 00:00:00
  TRACK 02 AUDIO
    INDEX 00 00:01:70
    INDEX 01 00:02:00
  TRACK 03 AUDIO
    TITLE "Last light"
    INDEX 01 00:04:01
"""
EDGES = ((0, 88_200), (88_200, 176_988), (176_988, 220_500))
"""At 44.1 kHz a sector has 588 samples (IEC 60908)."""


class CuttingTests(FolderCase):
    def flac(self, name: str = "days.flac", **fields: str) -> Path:
        path = write_sound(self.folder / name, sound=music(220_500))
        tags = TagSet(fields={"title": ("All",), "date": ("2024",)} | {key: (value,) for key, value in fields.items()})
        write_tags(path, tags, container="flac", codec="flac")
        return path

    def test_each_sound_of_a_film_becomes_a_track_of_its_own(self) -> None:
        film = write_film(self.folder / "film.mkv", seconds=2, languages=("eng", "deu", "deu"))
        cut = parted(gather_sources([film]), inspect_file, cuts=False, sounds=True)
        self.assertEqual(cut.ids, {0: (1, 2, 3)})
        steps = forecast_batch(
            list(cut.sources), find_target("disc-wav"), self.folder / "out", inspect=lambda key: cut.facts[key]
        ).steps
        outcomes = [carry_out(step) for step in steps]
        names = [Path(outcome.step.output).name for outcome in outcomes]
        self.assertEqual(names, ["film, eng.wav", "film, deu 2.wav", "film, deu 3.wav"])
        for number, outcome in enumerate(outcomes, 1):
            self.assertTrue(outcome.ok and outcome.checked, outcome.error)
            self.assertNotIn("more-sounds", [str(warning.code) for warning in outcome.warnings])
            alone = convert_one(film, "disc-wav", self.folder / str(number), sound=str(number))
            np.testing.assert_array_equal(decoded(Path(outcome.step.output)), decoded(Path(alone.step.output)))
        facts = cut.facts[cut.sources[1].key]
        again = part_of(facts)
        assert again is not None
        self.assertEqual(cut_out(inspect_file(film), again), facts)
        with self.assertRaisesRegex(DecodeError, "no longer has sound number 4"):
            cut_out(inspect_file(film), Part(fields={}, sound=3))

    def edges(self, path: Path) -> dict[str, list[tuple[int, int]]]:
        return {
            each.key: [(part.start_sample, part.end_sample) for part in each.parts]
            for each in cuttings_of(inspect_file(path))
        }

    def test_a_sheet_beside_it_names_the_parts(self) -> None:
        path = self.flac()
        # It was written before the file was coded.
        (self.folder / "days.cue").write_text(SHEET.format(name="Days.wav"))
        (self.folder / "other.cue").write_text(SHEET.format(name="other.wav"))
        self.assertEqual(self.edges(path), {"sheet days.cue": list(EDGES)})
        (cutting,) = cuttings_of(inspect_file(path))
        first, second, third = (dict(part.fields) for part in cutting.parts)
        self.assertEqual(
            first,
            {
                "title": ("Morning peal",), "artist": ("A. Venning",), "album": ("Tower days",), "track": ("1/3",),
                "album_artist": ("The Trust",), "isrc": ("XA1002600001",), "date": ("2024",),
            },
        )  # fmt: skip
        self.assertEqual((second["title"], second["artist"], third["track"]), (("Track 2",), ("The Trust",), ("3/3",)))

    def test_a_sheet_in_its_tags_and_its_own_table_of_contents(self) -> None:
        path = self.flac(CueSheet=SHEET.format(name="whatever.wav"))
        tagged = FLAC(path)
        sheet = CueSheet(None)
        for number, (start, _) in enumerate(EDGES, 1):
            track = CueSheetTrack(number, start - 588 * (number > 1), isrc=b"XA1002600001" if number == 1 else b"")
            track.indexes = [CueSheetTrackIndex(0, 0), CueSheetTrackIndex(1, 588)][number == 1 :]
            sheet.tracks.append(track)
        sheet.tracks[0].indexes = [CueSheetTrackIndex(1, 0)]
        sheet.tracks.append(CueSheetTrack(170, 220_500))
        tagged.cuesheet = sheet
        tagged.metadata_blocks.append(sheet)
        tagged.save()
        self.assertEqual(self.edges(path), {"own sheet": list(EDGES), "contents": list(EDGES)})
        contents = cuttings_of(inspect_file(path))[1].parts
        self.assertEqual((contents[0].fields["isrc"], contents[1].fields["title"]), (("XA1002600001",), ("Track 2",)))
        self.assertFalse(any(name.casefold() == "cuesheet" for part in contents for name in part.fields))

    def test_chapters_are_tracks_too(self) -> None:
        path = write_sound(self.folder / "a.ogg", sound=music(220_500), subtype="VORBIS")
        chapters = (
            Chapter(start_seconds=0, end_seconds=2, title="One"), Chapter(start_seconds=2, end_seconds=9, title=""),
        )  # fmt: skip
        write_tags(path, TagSet(fields={"title": ("Talk",)}, chapters=chapters), container="ogg", codec="vorbis")
        (cutting,) = cuttings_of(inspect_file(path))
        self.assertEqual(cutting.error, "")
        self.assertEqual([(p.start_sample, p.end_sample) for p in cutting.parts], [(0, 88_200), (88_200, 220_500)])
        self.assertEqual([p.fields["title"] for p in cutting.parts], [("One",), ("Chapter 2",)])
        self.assertEqual(cutting.parts[0].fields["album"], ("Talk",))

    def test_wrong_sheets_are_said_and_cut_nothing(self) -> None:
        path = self.flac()
        sheet = self.folder / "days.cue"
        for text, words in (
            (SHEET.format(name="days.flac").replace("00:04:01", "09:04:01"), "does not lie in the file"),
            (SHEET.format(name="../days.flac"), "does not lie beside the sheet"),
            (SHEET.format(name="days.flac").replace("00:02:00", "00:99:00"), "Line "),
            ("\x00\xff nothing", "Line "),
        ):
            sheet.write_text(text)
            (cutting,) = cuttings_of(inspect_file(path))
            self.assertIn(words, cutting.error)
            self.assertEqual(cutting.parts, ())
        sheet.write_text(SHEET.format(name="days.flac").split("  TRACK 02")[0])
        self.assertEqual(cuttings_of(inspect_file(path)), [], "one track is no cut")
