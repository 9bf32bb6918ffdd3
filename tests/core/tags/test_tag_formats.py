"""Tags of files that other programs wrote: each format's own ways, covers, rules, and what is broken."""

import base64
import io
import struct
from pathlib import Path
from unittest import TestCase, mock

import av
import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
from hypothesis import given, settings
from hypothesis import strategies as st
from mutagen.oggvorbis import OggVorbis
from mutagen.wavpack import WavPack
from PIL import Image

from rumbrel.core.errors import TagError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.tags import Chapter, Cover, TagRules, TagSet, apply_rules, read_tags, unheld_fields, write_tags
from rumbrel.core.tags.direct import read_directly
from rumbrel.core.tags.editing import TagChange, edit_tags
from rumbrel.core.tags.riff import read_riff_info
from tests.core.case import FolderCase
from tests.signals import convert_one, decoded, write_framed, write_sound


def picture(kind: str = "JPEG", size: tuple[int, int] = (600, 400)) -> bytes:
    data = io.BytesIO()
    Image.effect_noise(size, 90).convert("RGB").save(data, kind)
    return data.getvalue()


class MadeCase(FolderCase):
    def made(self, target: str) -> Path:
        wav = write_sound(self.folder / "a.wav", 20_000)
        return Path(convert_one(wav, target, self.folder / target).step.output)


class ForeignTagTests(MadeCase):
    def test_id3_of_older_versions_and_the_ways_of_other_programs(self) -> None:
        path = self.made("car-mp3")
        tags = mutagen.id3.ID3()
        tags.add(mutagen.id3.TIT2(encoding=1, text=["Größe"]))
        tags.add(mutagen.id3.TYER(encoding=0, text=["1998"]))
        tags.add(mutagen.id3.TCON(encoding=0, text=["(17)"]))
        tags.add(mutagen.id3.TRCK(encoding=0, text=["3/12"]))
        tags.add(mutagen.id3.COMM(encoding=3, lang="eng", desc="private note", text=["000001"]))
        tags.add(mutagen.id3.COMM(encoding=3, lang="eng", desc="", text=["north tower"]))
        tags.add(mutagen.id3.TXXX(encoding=3, desc="replaygain_track_gain", text=["-3.10 dB"]))
        tags.add(mutagen.id3.TXXX(encoding=3, desc="Bell count", text=["8"]))
        tags.add(mutagen.id3.TSSE(encoding=3, text=["some encoder"]))
        tags.save(path, v2_version=3)
        found = inspect_file(path).tags
        self.assertEqual(dict(found.fields), {
            "title": ("Größe",), "date": ("1998",), "genre": ("Rock",), "track": ("3/12",), "comment": ("north tower",),
            "track_gain": ("-3.10 dB",), "Bell count": ("8",),
        })  # fmt: skip

    def test_people_addresses_and_gains_of_id3_and_what_nobody_carries(self) -> None:
        path = self.made("car-mp3")
        tags = mutagen.id3.ID3()
        tags.add(mutagen.id3.TMCL(encoding=3, people=[["treble", "M. Orrel"], ["tenor", "T. Vaerle"]]))
        tags.add(
            mutagen.id3.TIPL(
                encoding=3, people=[["producer", "A. Venning"], ["arranger", "B. Lund"], ["mix", "C. Roe"]]
            )
        )
        tags.add(mutagen.id3.WOAR(url="urn:example:quernstow"))
        tags.add(mutagen.id3.WXXX(encoding=3, desc="Tower", url="urn:example:tower"))
        tags.add(mutagen.id3.RVA2(desc="album", channel=1, gain=-4.5, peak=0.5))
        tags.add(mutagen.id3.POPM(email="x", rating=200, count=3))
        tags.add(mutagen.id3.PRIV(owner="x", data=b"1"))
        wanted = {
            "performer": ("M. Orrel (treble)", "T. Vaerle (tenor)"), "producer": ("A. Venning",), "arranger": ("B. Lund",),
            "mixer": ("C. Roe",), "website": ("urn:example:quernstow",), "Tower": ("urn:example:tower",),
            "album_gain": ("-4.50 dB",), "album_peak": ("0.500000",),
        }  # fmt: skip
        for version in (4, 3):
            # Version 2.3 has one list for players and makers, and another frame for the gain.
            kept = mutagen.id3.ID3()
            for frame in tags.values():
                if version == 4 or frame.FrameID != "RVA2":
                    kept.add(frame)
            if version == 3:
                kept.update_to_v23()
            kept.save(path, v2_version=version)
            facts = inspect_file(path)
            fields = {name: values for name, values in wanted.items() if version == 4 or not name.startswith("album")}
            self.assertEqual({name: set(values) for name, values in facts.tags.fields.items()},
                             {name: set(values) for name, values in fields.items()})  # fmt: skip
            self.assertEqual(facts.tags.left_out, ("POPM",))
            outcome = convert_one(path, "archive-flac", self.folder / f"flac{version}")
            self.assertIn("POPM", next(w.text for w in outcome.warnings if str(w.code) == "tags-lost"))
            self.assertEqual(set(mutagen.File(outcome.step.output)["performer"]), set(wanted["performer"]))

    def test_an_mp3_with_an_ape_tag_behind_it(self) -> None:
        path = self.made("car-mp3")
        for first in (True, False):
            ape = mutagen.apev2.APEv2()
            ape["Title"], ape["REPLAYGAIN_TRACK_GAIN"], ape["Year"] = "From APE", "-5.00 dB", "1999"
            ape.save(path)
            id3 = mutagen.id3.ID3()
            id3.add(mutagen.id3.TIT2(encoding=3, text=["From ID3"]))
            id3.save(path, v1=2)
            if not first:
                mutagen.id3.ID3(path).delete()
                ape.save(path)
            facts = inspect_file(path)
            self.assertTrue(facts.ok, facts.faults)
            self.assertEqual(facts.samples, 20_000)
            title = "From ID3" if first else "From APE"
            self.assertEqual(dict(facts.tags.fields),
                             {"title": (title,), "track_gain": ("-5.00 dB",), "date": ("1999",)})  # fmt: skip
        data = path.read_bytes()
        at = data.rindex(b"APETAGEX")
        for size_bytes in (10, 1 << 30):
            path.write_bytes(data[: at + 12] + size_bytes.to_bytes(4, "little") + data[at + 16 :])
            facts = inspect_file(path)
            self.assertIn("damaged", facts.tags.left_out[0])
            self.assertEqual((facts.samples, facts.faults), (20_000, ()))

    def test_pictures_attached_to_the_containers_of_films(self) -> None:
        path = self.folder / "a.mka"
        with av.open(self.made("archive-flac").as_posix()) as reading, av.open(str(path), "w") as writing:
            stream = writing.add_stream_from_template(reading.streams.audio[0])
            writing.add_attachment("cover.jpg", "image/jpeg", picture(size=(30, 30)))
            writing.metadata["title"] = "T"
            for packet in reading.demux(reading.streams.audio[0]):
                if packet.dts is not None:
                    packet.stream = stream
                    writing.mux(packet)
        facts = inspect_file(path)
        self.assertFalse(facts.has_video)
        self.assertEqual((dict(facts.tags.fields), len(facts.tags.covers)), ({"title": ("T",)}, 1))
        for target in ("car-mp3", "archive-flac"):
            outcome = convert_one(path, target, self.folder / "out")
            self.assertTrue(outcome.ok, outcome.error)
            covers = inspect_file(Path(outcome.step.output)).tags.covers
            self.assertEqual([cover.media_type for cover in covers], ["image/jpeg"])

    def test_totals_apart_and_pictures_inside_comments(self) -> None:
        path = self.made("open-vorbis")
        file = OggVorbis(path)
        block = mutagen.flac.Picture()
        block.data, block.mime, block.type = picture(), "image/jpeg", 4
        file["TRACKNUMBER"], file["TOTALTRACKS"], file["DISCNUMBER"] = "3", "12", "1"
        file["metadata_block_picture"] = [base64.b64encode(block.write()).decode(), "!!! broken"]
        file["chapter001"], file["chapter001name"] = "00:00:00.000", "Rounds"
        file["chapter002"] = "00:00:00.250"
        file.save()
        tags = inspect_file(path).tags
        self.assertEqual((tags.first("track"), tags.first("disc")), ("3/12", "1"))
        self.assertEqual([(cover.kind, cover.size_bytes) for cover in tags.covers], [(4, len(block.data))])
        self.assertEqual([(c.title, c.start_seconds) for c in tags.chapters], [("Rounds", 0.0), ("", 0.25)])
        self.assertFalse([name for name in tags.fields if "chapter" in name.lower()])

    def test_mp4_free_forms_numbers_and_both_kinds_of_picture(self) -> None:
        path = self.made("pocket-aac")
        file = mutagen.mp4.MP4(path)
        file["\xa9nam"], file["trkn"], file["disk"], file["tmpo"], file["cpil"] = ["T"], [(3, 0)], [(1, 2)], [120], True
        file["----:com.example:Bell count"] = [b"8"]
        file["----:com.example:ISRC"] = [b"XAOSW2400001"]
        file["covr"] = [mutagen.mp4.MP4Cover(picture("PNG", (20, 20)), mutagen.mp4.MP4Cover.FORMAT_PNG)]
        file.save()
        tags = inspect_file(path).tags
        self.assertEqual((tags.first("track"), tags.first("disc"), tags.first("bpm")), ("3", "1/2", "120"))
        self.assertEqual((tags.first("Bell count"), tags.first("isrc")), ("8", "XAOSW2400001"))
        self.assertEqual(tags.first("compilation"), "1")
        self.assertEqual(tags.covers[0].media_type, "image/png")

    def test_ape_and_asf(self) -> None:
        path = self.made("archive-wavpack")
        file = WavPack(path)
        file["Title"], file["Artist"], file["Year"] = "T", ["A", "B"], "2024"
        file["Cover Art (Front)"] = mutagen.apev2.APEValue(b"c.png\0\x89PNG data", mutagen.apev2.BINARY)
        file.save()
        tags = inspect_file(path).tags
        self.assertEqual((tags.fields["artist"], tags.first("date")), (("A", "B"), "2024"))
        self.assertEqual(tags.covers[0].media_type, "image/png")
        wma = write_framed(self.folder / "a.wma", "wmav2", muxer="asf", rate=44_100)
        asf = mutagen.asf.ASF(wma)
        asf["Title"], asf["Author"], asf["WM/TrackNumber"] = "T", ["A", "B"], 7
        asf["WM/Picture"] = mutagen.asf.ASFValue(b"\x03\x05", mutagen.asf.BYTEARRAY)
        asf.save()
        tags = inspect_file(wma).tags
        self.assertEqual((tags.fields["artist"], tags.first("track"), tags.covers), (("A", "B"), "7", ()))

    def test_riff_lists_in_the_encodings_of_their_time(self) -> None:
        path = write_sound(self.folder / "r.wav", 5_000)
        body = b"INFO"
        for key, raw in ((b"INAM", "Größe".encode("latin-1")), (b"IART", "Höhe".encode()), (b"IXYZ", b"unknown")):
            raw += b"\0"
            body += struct.pack("<4sI", key, len(raw)) + raw + b"\0" * (len(raw) % 2)
        data = path.read_bytes() + struct.pack("<4sI", b"LIST", len(body)) + body
        path.write_bytes(data[:4] + struct.pack("<I", len(data) - 8) + data[8:])
        self.assertEqual(read_riff_info(path), {"title": ("Größe",), "artist": ("Höhe",)})
        self.assertEqual(inspect_file(path).tags.first("title"), "Größe")

    def test_aiff_text_chunks_are_read_and_written(self) -> None:
        path = write_sound(self.folder / "p.aiff", 5_000)
        extra = b"".join(
            struct.pack(">4sI", k, len(v)) + v + b"\0" * (len(v) % 2)
            for k, v in (
                (b"NAME", "Größe".encode("latin-1")),
                (b"AUTH", b"A. Venning"),
                (b"ANNO", b"one"),
                (b"ANNO", b"two"),
            )
        )
        data = path.read_bytes() + extra
        path.write_bytes(data[:4] + struct.pack(">I", len(data) - 8) + data[8:])
        facts = inspect_file(path)
        self.assertEqual(
            dict(facts.tags.fields), {"title": ("Größe",), "artist": ("A. Venning",), "comment": ("one", "two")}
        )
        before = decoded(path)
        result = Path(convert_one(path, "disc-aiff", self.folder / "o").step.output)
        for title in ("First", "Second"):
            write_tags(result, TagSet(fields={"title": (title,), "copyright": ("T",)}), container="aiff", codec="pcm")
        with av.open(str(result)) as container:
            self.assertEqual(container.metadata["title"], "Second")
        self.assertEqual(inspect_file(result).tags.first("title"), "Second")
        self.assertTrue((decoded(result) == before).all())

    def test_reading_directly_says_what_the_library_says(self) -> None:
        block = mutagen.flac.Picture()
        block.data, block.mime = picture(), "image/jpeg"
        coded = base64.b64encode(block.write()).decode()
        for target in ("archive-flac", "open-vorbis", "open-opus", "pocket-aac", "pocket-alac"):
            path = self.made(target)
            codec = inspect_file(path).codec
            # Short, past the first page, past the first pages that are read directly, and with a picture.
            for case, length in enumerate((10, 5_000, 200_000, 10)):
                file = mutagen.File(path)
                file.delete()
                name = "\xa9nam" if codec in ("aac", "alac") else "title"
                file[name] = ["ü" * length, "second"] if name == "title" else ["ü" * length]
                if case == 3 and codec == "flac":
                    file.add_picture(block)
                    file.tags.clear()
                elif case == 3 and codec in ("vorbis", "opus"):
                    file["metadata_block_picture"] = [coded]
                elif case == 3:
                    file["covr"] = [mutagen.mp4.MP4Cover(block.data)]
                file.save()
                place = {"container": inspect_file(path).container, "codec": codec}
                direct = read_directly(path, **place)
                self.assertEqual(direct is None, codec in ("vorbis", "opus") and case in (2, 3), (target, case))
                found = read_tags(path, **place)
                with mock.patch("rumbrel.core.tags.reading.read_directly", return_value=None):
                    self.assertEqual(found, read_tags(path, **place), (target, case))
                self.assertEqual(len(found.covers), int(case == 3))

    def test_tags_that_cannot_be_read_cost_only_themselves(self) -> None:
        path = self.made("archive-flac")
        data = bytearray(path.read_bytes())
        data[4 + 38] = 4
        data[4 + 39 : 4 + 42] = (20).to_bytes(3, "big")
        (self.folder / "b.flac").write_bytes(bytes(data[:42]) + b"\x84\0\0\x14" + b"\xff" * 20 + bytes(data[-3_000:]))
        with self.assertRaises(TagError):
            read_tags(self.folder / "b.flac", container="flac", codec="flac")


TEXT = st.text(st.characters(exclude_categories=("Cs", "Cc")), min_size=1, max_size=40).map(str.strip).filter(bool)


class WrittenTagTests(MadeCase):
    @given(TEXT, TEXT, st.integers(1, 99))
    @settings(max_examples=25, deadline=None)
    def test_any_text_comes_back_from_every_format(self, title: str, album: str, track: int) -> None:
        if not hasattr(self, "files"):
            self.files = [
                (self.made(slug), container, codec)
                for slug, container, codec in (
                    ("car-mp3", "mp3", "mp3"), ("pocket-aac", "m4a", "aac"), ("archive-flac", "flac", "flac"),
                    ("open-opus", "ogg", "opus"), ("archive-wavpack", "wavpack", "wavpack"), ("disc-aiff", "aiff", "pcm"),
                )
            ]  # fmt: skip
        tags = TagSet(fields={"title": (title,), "album": (album,), "track": (f"{track}/99",)})
        for path, container, codec in self.files:
            self.assertEqual(write_tags(path, tags, container=container, codec=codec), ())
            self.assertEqual(
                dict(read_tags(path, container=container, codec=codec).fields), dict(tags.fields), container
            )

    def test_writing_twice_replaces_and_the_sound_stays(self) -> None:
        for slug, container, codec in (
            ("car-mp3", "mp3", "mp3"),
            ("disc-wav", "wav", "pcm"),
            ("pocket-aac", "m4a", "aac"),
        ):
            path = self.made(slug)
            before = decoded(path)
            for title in ("First", "Second"):
                cover = Cover(media_type="image/jpeg", data=picture())
                chapters = (Chapter(start_seconds=0, end_seconds=0.3, title=title),)
                tags = TagSet(fields={"title": (title,)}, covers=(cover,), chapters=chapters)
                write_tags(path, tags, container=container, codec=codec)
            found = inspect_file(path)
            self.assertEqual((found.tags.first("title"), len(found.tags.covers)), ("Second", 1), slug)
            self.assertEqual([chapter.title for chapter in found.tags.chapters], ["Second"], slug)
            self.assertTrue((decoded(path) == before).all(), slug)

    def test_what_a_container_cannot_hold_is_known_beforehand(self) -> None:
        chapters = (Chapter(start_seconds=0, end_seconds=1, title="C"),)
        tags = TagSet(fields={"title": ("T",)}, covers=(Cover(media_type="image/png", data=b"x"),), chapters=chapters)
        self.assertEqual(unheld_fields(tags, container="caf"), ("title", "cover", "chapters"))
        self.assertEqual(unheld_fields(tags, container="asf"), ("chapters",))
        self.assertEqual(unheld_fields(tags, container="flac"), ())

    def test_languages_of_comments_and_lyrics_and_the_items_of_mp4_stay(self) -> None:
        path = self.made("car-mp3")
        tags = mutagen.id3.ID3()
        tags.add(mutagen.id3.COMM(encoding=3, lang="deu", desc="", text=["im Turm"]))
        tags.add(mutagen.id3.USLT(encoding=3, lang="fra", desc="", text="un\ndeux"))
        tags.save(path)
        self.assertEqual(dict(inspect_file(path).tags.languages), {"comment": "deu", "lyrics": "fra"})
        again = mutagen.id3.ID3(convert_one(path, "speech-small", self.folder / "s").step.output)
        self.assertEqual([again["COMM::deu"].text, again["USLT::fra"].text], [["im Turm"], "un\ndeux"])
        edit_tags(path, TagChange(fields={"comment": ("im Turm, oben",)}), container="mp3", codec="mp3")
        self.assertEqual(mutagen.id3.ID3(path)["COMM::deu"].text, ["im Turm, oben"])
        m4a = self.made("pocket-alac")
        own = mutagen.mp4.MP4(m4a)
        own.tags.update({"pgap": True, "stik": [2], "cpil": True, "tvsh": ["Ringing"]})
        own.save()
        kept = mutagen.mp4.MP4(convert_one(m4a, "pocket-aac", self.folder / "k").step.output).tags
        self.assertEqual((kept["pgap"], kept["stik"], kept["cpil"], kept["tvsh"]), (True, [2], True, ["Ringing"]))


class RuleTests(TestCase):
    def test_covers_within_the_limits_of_a_target(self) -> None:
        large, small = picture(size=(1_500, 1_000)), picture(size=(50, 50))
        covers = (Cover(media_type="image/png", data=picture("PNG", (900, 900)), kind=4),
                  Cover(media_type="image/jpeg", data=large, kind=3), Cover(media_type="image/jpeg", data=small, kind=5))  # fmt: skip
        tags = TagSet(fields={"title": ("T",), "comment": ("C",)}, covers=covers)
        kept, notes = apply_rules(tags, TagRules(covers="front", cover_pixels=300, cover_bytes=30_000, keep=("title",)))
        self.assertEqual((list(kept.fields), len(kept.covers), notes), (["title"], 1, ()))
        with Image.open(io.BytesIO(kept.covers[0].data)) as image:
            self.assertTrue(max(image.size) <= 300 and image.format == "JPEG")
            self.assertAlmostEqual(image.width / image.height, 1.5, delta=0.05)
        self.assertLessEqual(len(kept.covers[0].data), 30_000)
        every, _ = apply_rules(tags, TagRules(cover_pixels=300))
        self.assertEqual([cover.kind for cover in every.covers], [4, 3, 5])
        self.assertEqual(every.covers[2].data, small, "a picture within the limits stays as it is")
        self.assertEqual(apply_rules(tags, TagRules(covers="none"))[0].covers, ())
        self.assertEqual(apply_rules(tags, TagRules())[0], tags)

    def test_pictures_that_are_none_or_lie_about_their_size(self) -> None:
        bomb = bytearray(picture("PNG", (10, 10)))
        bomb[16:24] = struct.pack(">II", 60_000, 60_000)
        for data in (b"no picture", picture()[:200], bytes(bomb)):
            tags = TagSet(covers=(Cover(media_type="image/jpeg", data=data),))
            kept, notes = apply_rules(tags, TagRules(cover_pixels=300))
            self.assertTrue(not kept.covers or len(kept.covers[0].data) < 100_000)
            self.assertTrue(kept.covers or notes)
