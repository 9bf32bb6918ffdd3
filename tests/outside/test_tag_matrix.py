"""Every crossing between tag formats, read back by the tag library itself under the customary names."""

import io
import tempfile
from inspect import signature
from pathlib import Path
from unittest import TestCase

import av
import mutagen
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from mutagen.easymp4 import EasyMP4Tags
from PIL import Image
from tinytag import TinyTag

from rumbrel.core.conversion import Outcome
from rumbrel.core.inspection import inspect_file
from rumbrel.core.tags import Chapter, Cover, TagSet, write_tags
from rumbrel.core.tags.mapping import FIELDS as TABLE
from tests.marks import slow
from tests.signals import convert_one, write_sound

# Every row of the table has a value; those whose form is fixed have one that fits.
FIELDS = {
    **{row.name: (f"{row.label} of it",) for row in TABLE},
    "title": ("Größe & “Höhe”",),
    "artist": ("A. Venning", "M. Orrel"),
    "album": ("Tower days",),
    "album_artist": ("The Ringers",),
    "composer": ("T. Vaerle",),
    "track": ("3/12",),
    "disc": ("1/2",),
    "date": ("2024",),
    "genre": ("Change ringing",),
    "comment": ("north tower",),
    "lyrics": ("one\ntwo",),
    "isrc": ("XAOSW2400001",),
    "bpm": ("120",),
    "language": ("eng",),
    "original_date": ("1998",),
    "compilation": ("1",),
    "performer": ("M. Orrel (treble)", "T. Vaerle (tenor)"),
    "producer": ("A. Venning",),
    "website": ("urn:example:quernstow",),
    "track_gain": ("-3.10 dB",),
    "Bell count": ("8",),
}
FREE_FORM = signature(EasyMP4Tags.RegisterFreeformKey).parameters["mean"].default
# Targets by the tag format they write, and the name of title, artist and unknown field there.
FORMATS = {
    "car-mp3": ("TIT2", "TPE1", "TXXX:Bell count"),
    "car-older": ("TIT2", "TPE1", "TXXX:Bell count"),
    "pocket-aac": ("\xa9nam", "\xa9ART", f"----:{FREE_FORM}:Bell count"),
    "archive-flac": ("title", "artist", "bell count"),
    "open-opus": ("title", "artist", "bell count"),
    "archive-wavpack": ("Title", "Artist", "Bell count"),
    "table-radio-wma": ("Title", "Author", "Bell count"),
    "disc-wav": ("TIT2", "TPE1", "TXXX:Bell count"),
    "disc-aiff": ("TIT2", "TPE1", "TXXX:Bell count"),
}

# What the third reader knows of codes in each format; those without a row it cannot read at all.
THIRD_READER = {
    "car-mp3": ("isrc", "bpm", "conductor"),
    "car-older": ("isrc", "bpm", "conductor"),
    "pocket-aac": ("isrc", "barcode", "bpm", "conductor"),
    "archive-flac": ("isrc", "barcode", "bpm", "conductor"),
    "open-opus": ("isrc", "barcode", "bpm", "conductor"),
    "table-radio-wma": ("isrc", "barcode", "bpm", "conductor"),
    "disc-wav": ("isrc", "bpm", "conductor"),
    "disc-aiff": ("isrc", "bpm", "conductor"),
}

NOT_IN_2_3 = {"title_sort", "artist_sort", "album_sort", "mood"}


def _texts(value: object) -> list[str]:
    values = value if isinstance(value, list) else getattr(value, "text", None) or [value]
    return [v.decode() if isinstance(v, bytes) else str(v) for v in values]


class MatrixTests(TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        picture = io.BytesIO()
        Image.new("RGB", (40, 40), "#0d6a5d").save(picture, "JPEG")
        self.picture = picture.getvalue()
        cover = Cover(media_type="image/jpeg", data=self.picture)
        wav = write_sound(self.folder / "first.wav", 44_100)
        self.assertEqual(write_tags(wav, TagSet(fields=FIELDS, covers=(cover,)), container="wav", codec="pcm"), ())
        self.sources = {slug: self._convert(wav, slug, "first") for slug in FORMATS}

    def _convert(self, source: Path, slug: str, place: str) -> Path:
        outcome: Outcome = convert_one(source, slug, self.folder / place / slug)
        self.assertTrue(outcome.ok, f"{source.suffix} to {slug}: {outcome.error}")
        lost = [w.text for w in outcome.warnings if str(w.code) == "tags-lost"]
        self.assertEqual([text for text in lost if slug != "car-older"], [], f"{source.suffix} to {slug}")
        return Path(outcome.step.output)

    @slow
    def test_all_fields_and_covers_cross_everywhere(self) -> None:
        for origin, source in self.sources.items():
            for slug, (title, artist, unknown) in FORMATS.items():
                path = self._convert(source, slug, f"from {origin}")
                where = f"{origin} to {slug}"
                tags = inspect_file(path).tags
                for name, values in FIELDS.items():
                    if name in NOT_IN_2_3 and "car-older" in (origin, slug):
                        continue
                    joined = "/".join(values) if slug == "car-older" or origin == "car-older" else None
                    found = tags.fields.get(name)
                    self.assertTrue(found == values or "/".join(found or ()) == joined, f"{name}, {where}: {found}")
                self.assertEqual([cover.kind for cover in tags.covers], [3], where)
                held = mutagen.File(path)
                if path.suffix == ".mp3":
                    # The desk set plays MP3 as it is.
                    title, artist, unknown = FORMATS["car-mp3"]
                self.assertEqual(_texts(held.tags[title]), list(FIELDS["title"]), where)
                self.assertIn("A. Venning", "/".join(_texts(held.tags[artist])), where)
                self.assertEqual(_texts(held.tags[unknown]), ["8"], where)

    def test_codes_and_gains_are_found_again_by_other_readers(self) -> None:
        """By FFmpeg's reader and the tag library's own names; gains in Opus by the rule of RFC 7845 (1/256 dB towards
        -23 LUFS, where the others count towards -18)."""
        source = write_sound(self.folder / "codes.flac", 90_000)
        tagged = mutagen.flac.FLAC(source)
        wanted = {
            "isrc": "XAOSW2400001",
            "barcode": "2904173000523",
            "recording_id": "a-b-c",
            "replaygain_track_gain": "-3.25 dB",
        }
        tagged.update(wanted)
        tagged.save()
        packed = Path(convert_one(source, "archive-wavpack", self.folder / "codes").step.output)
        for target in ("pocket-aac", "car-mp3", "open-opus", "open-vorbis"):
            # The player of open formats takes FLAC as it is.
            path = Path(convert_one(packed, target, self.folder / "codes").step.output)
            with av.open(str(path)) as container:
                said = {**container.metadata, **container.streams.audio[0].metadata}
            seen = {key.lower().removeprefix("txxx:"): value for key, value in said.items()}
            seen = {{"tsrc": "isrc"}.get(key, key): value for key, value in seen.items()}
            for name, value in wanted.items():
                if target == "open-opus" and name == "replaygain_track_gain":
                    own = mutagen.File(path).tags
                    self.assertEqual(own["R128_TRACK_GAIN"], [str(round((-3.25 - 5) * 256))])
                    self.assertNotIn("REPLAYGAIN_TRACK_GAIN", own)
                else:
                    self.assertEqual(seen.get(name), value, (target, name))
            again = inspect_file(path).tags
            self.assertEqual(
                (again.first("isrc"), again.first("barcode"), again.first("track_gain")),
                (wanted["isrc"], wanted["barcode"], "-3.25 dB"),
            )

    def test_a_third_reader_finds_them_under_its_own_names(self) -> None:
        """A reader of its own kin, beside the tag library and FFmpeg's."""
        wanted = {
            "title": "Größe & “Höhe”", "artist": "A. Venning", "album": "Tower days", "albumartist": "The Ringers",
            "composer": "T. Vaerle", "track": 3, "track_total": 12, "disc": 1, "disc_total": 2, "year": "2024",
            "genre": "Change ringing", "comment": "north tower",
        }  # fmt: skip
        codes = {"isrc": "XAOSW2400001", "barcode": "UPC/EAN of it", "bpm": "120", "conductor": "Conductor of it"}
        for slug, path in self.sources.items():
            if slug not in THIRD_READER:
                continue
            found = TinyTag.get(path, image=True)
            lists = {
                name: [str(each) for each in values]
                for name, values in found.as_dict().items()
                if isinstance(values, list)
            }
            for name, value in wanted.items():
                if slug == "table-radio-wma" and name.endswith("_total"):
                    # It knows no field for them there.
                    continue
                value_read = getattr(found, name)
                if name == "artist":
                    # The first of several, the last, or one text of all, as the format has them.
                    self.assertRegex(value_read, "A. Venning|M. Orrel")
                    continue
                self.assertEqual(value_read, value, (slug, name))
            for name in THIRD_READER[slug]:
                self.assertEqual(lists.get(name, [""])[0], codes[name], (slug, name))
            if slug != "table-radio-wma":
                # It reads no pictures there.
                self.assertEqual(found.images.any.data, self.picture, slug)

    def test_old_tags_are_version_2_3_and_covers_small(self) -> None:
        self.assertEqual(mutagen.id3.ID3(self.sources["car-older"], translate=False).version, (2, 3, 0))
        self.assertEqual(mutagen.id3.ID3(self.sources["car-mp3"], translate=False).version, (2, 4, 0))

    def test_plain_readers_find_the_list_of_a_wav(self) -> None:
        """FFmpeg reads LIST INFO on its own."""
        with av.open(str(self.sources["disc-wav"])) as container:
            self.assertEqual(container.metadata.get("title") or container.metadata.get("TIT2"), FIELDS["title"][0])
        data = self.sources["disc-wav"].read_bytes()
        self.assertIn(b"INAM" + (len(FIELDS["title"][0].encode()) + 1).to_bytes(4, "little"), data)

    def test_chapters_cross(self) -> None:
        chapters = (
            Chapter(start_seconds=0.0, end_seconds=0.4, title="Rounds"),
            Chapter(start_seconds=0.4, end_seconds=1.0, title="Plain hunt"),
        )
        source = write_sound(self.folder / "c.flac", 44_100)
        write_tags(source, TagSet(fields={"title": ("C",)}, chapters=chapters), container="flac", codec="flac")
        for slug in ("car-mp3", "pocket-aac", "pocket-alac", "open-opus", "disc-wav"):
            path = self._convert(source, slug, "chapters")
            again = self._convert(path, "archive-flac", f"chapters from {slug}")
            for found in (inspect_file(path).tags.chapters, inspect_file(again).tags.chapters):
                self.assertEqual(
                    [(c.title, round(c.start_seconds, 2)) for c in found], [("Rounds", 0), ("Plain hunt", 0.4)]
                )
        with av.open(str(self.folder / "chapters" / "pocket-aac" / "c.m4a")) as container:
            self.assertEqual([c["metadata"]["title"] for c in container.chapters()], ["Rounds", "Plain hunt"])
