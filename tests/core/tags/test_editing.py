"""Tags changed in place: what was asked is changed, all else stays, and the sound is the same. Every form of tags."""

import io
from dataclasses import replace
from pathlib import Path
from unittest import TestCase, mock

import mutagen
import mutagen.apev2
import mutagen.asf
import mutagen.flac
import mutagen.id3
import mutagen.mp4
import numpy as np
from PIL import Image

from rumbrel.core.encoders.encodings import ENCODINGS
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.errors import OutputError, TagError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.tags import Chapter, Cover, TagSet, read_tags, write_tags
from rumbrel.core.tags.editing import TagChange, can_edit, read_layout
from rumbrel.core.tags.layout import keep_layout, kept_layout
from rumbrel.core.tags.wishes import CASES, NamedFile, TagWish, changes_for, values_in_name
from rumbrel.core.workflows.edit_tags import Edited, edit_file
from tests.core.case import FolderCase
from tests.signals import decoded, music, write_sound


def picture(shade: int) -> Cover:
    data = io.BytesIO()
    Image.new("RGB", (40, 40), (shade, 20, 30)).save(data, "PNG")
    return Cover(media_type="image/png", data=data.getvalue())


BEFORE = TagSet(
    fields={
        "title": ("Old bell",), "artist": ("A. Venning", "M. Orrel"), "album": ("Tower days",), "track": ("3/9",),
        "comment": ("kept as it is",), "producer": ("T. Vaerle",), "mixer": ("Dr I. Sorley",), "MYOWN": ("private",),
    },
    covers=(picture(1),),
)  # fmt: skip


class EditCase(FolderCase):
    def made(self, key: str) -> Path:
        encoding = next(each for each in ENCODINGS if each.key == key)
        rate = encoding.rates[-1] if encoding.rates else 44_100
        channels = min(2, encoding.max_channels)
        depth = encoding.depths[0] if encoding.depths else 0
        path = self.folder / f"{key}{encoding.suffix}"
        sound = music(rate, rate=rate, channels=channels)
        encoder = encoding.open(
            path, SoundShape(sample_rate=rate, channels=channels, depth_bits=depth), EncoderSettings()
        )
        encoder.write(
            (sound * 32767).astype(np.int16)
            if depth and depth <= 16
            else sound.astype(np.float32)
            if not depth
            else (sound * (2**31 - 1)).astype(np.int32)
        )
        encoder.finish()
        write_tags(path, BEFORE, container=encoding.container, codec=encoding.codec)
        return path

    def back(self, before: TagSet, change: TagChange) -> TagChange:
        """What takes a change back."""
        fields = {name: before.fields.get(name, ()) for name in change.fields}
        return TagChange(fields=fields, covers=None if change.covers is None else before.covers)

    def edit(self, path: Path, change: TagChange) -> Edited:
        return edit_file(inspect_file(path), change)

    def told(self, path: Path) -> TagSet:
        facts = inspect_file(path)
        return read_tags(path, container=facts.container, codec=facts.codec)


class FormTests(EditCase):
    def test_every_form_changes_what_was_asked_alone_and_back(self) -> None:
        change = TagChange(
            fields={
                "title": ("New bell", "Second"),
                "track": ("4",),
                "album": (),
                "genre": ("Bells",),
                "mixer": ("M. Orrel",),
            }
        )
        done = set()
        for encoding in ENCODINGS:
            if not can_edit(encoding.container, encoding.codec) or (encoding.container, encoding.codec) in done:
                continue
            done.add((encoding.container, encoding.codec))
            with self.subTest(encoding=encoding.key):
                path = self.made(encoding.key)
                before, sound = self.told(path), decoded(path)
                # GSM's last block is stated as one more than there is, and what decodes there is no sound.
                count = 8_000
                self.assertEqual(before.fields["producer"], ("T. Vaerle",))
                edited = self.edit(path, change)
                after = self.told(path)
                wanted = {
                    name: values for name, values in before.fields.items() if name not in change.fields
                } | change.set_fields
                if after.fields["title"] == ("New bell; Second",):
                    wanted["title"] = ("New bell; Second",)
                self.assertEqual(dict(after.fields), wanted)
                self.assertEqual([cover.data for cover in after.covers], [picture(1).data])
                self.assertTrue(np.array_equal(decoded(path)[:count], sound[:count]))
                self.assertEqual(edited.facts.modified_ns, path.stat().st_mtime_ns)
                self.edit(path, self.back(before, change))
                self.assertEqual(self.told(path).fields, before.fields)
                # Pictures put in and taken out, and put back.
                covers = TagChange(covers=(picture(99),))
                self.edit(path, covers)
                self.assertEqual([cover.data for cover in self.told(path).covers], [picture(99).data])
                self.edit(path, TagChange(covers=()))
                self.assertEqual(self.told(path).covers, ())
                self.edit(path, self.back(before, covers))
                self.assertEqual([cover.data for cover in self.told(path).covers], [picture(1).data])
                self.assertEqual(self.told(path).fields, before.fields)
        self.assertGreater(len(done), 9)

    def test_what_is_taken_back_is_laid_out_as_it_was(self) -> None:
        """Values alone bring back neither a number with its total in one field, nor a field that stands twice, nor the
        order of the fields, nor a comment's language."""
        change = TagChange(fields={"title": ("New",), "track": ("4",), "comment": ("new",), "mixer": ()})
        flac, wma, mp3, m4a, wv = (self.made(key) for key in ("flac", "wma", "mp3", "aac", "wavpack"))
        file = mutagen.flac.FLAC(flac)
        file.tags[:] = [("tracknumber", "16/12"), ("Title", "One"), ("GENRE", "Bells"), ("TITLE", "Two")]
        file.save()
        attributes = mutagen.asf.ASF(wma)
        attributes.tags[:] = [
            ("Title", mutagen.asf.ASFValue("One", 0)), ("WM/TrackNumber", mutagen.asf.ASFValue(16, 3)),
            ("tracktotal", mutagen.asf.ASFValue("12", 0)), ("Title", mutagen.asf.ASFValue("Two", 0, language=0)),
        ]  # fmt: skip
        attributes.save()
        frames = mutagen.id3.ID3(mp3)
        frames.setall("COMM", [mutagen.id3.COMM(encoding=3, lang="deu", desc="", text=["alt"])])
        frames.setall("TIPL", [mutagen.id3.TIPL(encoding=3, people=[["mix", "Dr I. Sorley"], ["producer", "T. V."]])])
        frames.save()
        atoms = mutagen.mp4.MP4(m4a)
        atoms["trkn"] = [(16, 12)]
        atoms["----:own:mixer"] = [mutagen.mp4.MP4FreeForm(b"Dr I. Sorley", mutagen.mp4.AtomDataType.IMPLICIT)]
        atoms.save()
        values = mutagen.apev2.APEv2(wv)
        values["TRACK"], values["tItle"] = "16/12", ["One", "Two"]
        values.save()

        def laid_out(path: Path) -> object:
            tags = mutagen.File(path).tags
            if isinstance(tags, mutagen.id3.ID3):
                return {key: [frame.people] if hasattr(frame, "people") else str(frame) for key, frame in tags.items()}
            if isinstance(tags, list):
                return [(key, value, getattr(value, "TYPE", None)) for key, value in tags]
            return dict(tags.items())

        for path in (flac, wma, mp3, m4a, wv):
            with self.subTest(path=path.name):
                before, facts, told = laid_out(path), inspect_file(path), self.told(path)
                kept = read_layout(path, change.fields, container=facts.container, codec=facts.codec)
                keep_layout(self.folder / "kept.json", kept)
                self.edit(path, change)
                self.assertNotEqual(laid_out(path), before)
                self.edit(path, replace(self.back(told, change), layout=kept_layout(self.folder / "kept.json")))
                self.assertEqual(laid_out(path), before)

    def test_what_nobody_here_knows_survives(self) -> None:
        mp3, flac, m4a, wma = (self.made(key) for key in ("mp3", "flac", "aac", "wma"))
        frames = mutagen.id3.ID3(mp3)
        frames.add(mutagen.id3.PRIV(owner="somebody", data=b"\1\2"))
        frames.add(mutagen.id3.POPM(email="x", rating=200))
        frames.add(mutagen.id3.COMM(encoding=3, lang="eng", desc="a program's own", text=["7"]))
        frames.update_to_v23()
        frames.save(mp3, v2_version=3)
        file = mutagen.flac.FLAC(flac)
        file.tags["SOMEBODYS"] = ["x"]
        file.save()
        atoms = mutagen.mp4.MP4(m4a)
        atoms.tags["----:com.somebody:THING"] = [b"x"]
        atoms.tags["rtng"] = [1]
        atoms.save()
        attributes = mutagen.asf.ASF(wma)
        attributes.tags["WM/Provider"] = ["somebody"]
        attributes.save()
        for path in (mp3, flac, m4a, wma):
            self.edit(path, TagChange(fields={"title": ("New",), "comment": ()}, covers=()))
        frames = mutagen.id3.ID3(mp3, translate=False)
        self.assertEqual(frames.version, (2, 3, 0), "stays of its version")
        self.assertEqual(
            [bool(frames.getall(key)) for key in ("PRIV", "POPM", "COMM:a program's own", "APIC")],
            [True, True, True, False],
        )
        file = mutagen.flac.FLAC(flac)
        self.assertEqual((file.tags["SOMEBODYS"], file.tags["TITLE"]), (["x"], ["New"]))
        atoms = mutagen.mp4.MP4(m4a)
        self.assertEqual(
            (bytes(atoms.tags["----:com.somebody:THING"][0]), atoms.tags["rtng"], atoms.tags["\xa9nam"]),
            (b"x", [1], ["New"]),
        )
        self.assertEqual([str(value) for value in mutagen.asf.ASF(wma).tags["WM/Provider"]], ["somebody"])

    def test_two_spellings_of_one_key_are_one_field(self) -> None:
        """Vorbis comments: names are the same whatever the case of their letters (the specification, from memory)."""
        path = self.made("flac")
        file = mutagen.flac.FLAC(path)
        file.tags.extend([("title", "Another"), ("Genre", "x"), ("GENRE", "y")])
        file.save()
        self.assertEqual(self.told(path).fields["genre"], ("x", "y"))
        self.edit(path, TagChange(fields={"genre": (), "title": ("One",)}))
        self.assertEqual((self.told(path).fields["title"], "genre" in self.told(path).fields), (("One",), False))

    def test_what_a_format_holds_otherwise_is_named(self) -> None:
        m4a = self.made("aac")
        self.assertEqual(self.edit(m4a, TagChange(fields={"track": ("04",), "title": ("New",)})).lost, ("track",))
        self.assertEqual(self.told(m4a).fields["track"], ("4",))

    def test_an_ape_tag_behind_mp3_does_not_bring_back_what_was_taken_out(self) -> None:
        path = self.made("mp3")
        ape = mutagen.apev2.APEv2()
        ape["Genre"], ape["Mp3gain_undo"] = "Old", "+1"
        ape.save(path)
        self.assertEqual(self.told(path).first("genre"), "Old")
        self.edit(path, TagChange(fields={"genre": ()}))
        self.assertEqual(self.told(path).first("genre"), "")
        self.assertIn("Mp3gain_undo", mutagen.apev2.APEv2(path))

    def test_the_list_of_a_wav_that_others_read_is_changed_too(self) -> None:
        path = write_sound(self.folder / "a.wav")
        raw = path.read_bytes()
        body = b"INFOISFT\x05\0\0\0tool\0\0INAM\x04\0\0\0Old\0"
        listed = raw + b"LIST" + len(body).to_bytes(4, "little") + body
        path.write_bytes(listed[:4] + (len(listed) - 8).to_bytes(4, "little") + listed[8:])
        self.edit(path, TagChange(fields={"title": ("New",), "artist": ("A. Venning",)}))
        self.assertEqual((self.told(path).first("title"), self.told(path).first("artist")), ("New", "A. Venning"))
        raw = path.read_bytes()
        last = raw[raw.rindex(b"LIST") :]
        self.assertTrue(b"INAM\x04\0\0\0New\0" in last and b"ISFT\x05\0\0\0tool" in last)


class SafeTests(EditCase):
    def test_a_write_that_ends_in_the_middle_leaves_the_file_as_it_was(self) -> None:
        path = self.made("flac")
        raw = path.read_bytes()
        for where in (
            "rumbrel.core.tags.editing.adder_for",
            "rumbrel.core.workflows.edit_tags._compared",
            "rumbrel.core.workflows.edit_tags.os.fsync",
        ):
            with mock.patch(where, side_effect=OSError("killed")), self.assertRaises((TagError, OutputError, OSError)):
                self.edit(path, TagChange(fields={"title": ("New",)}))
            self.assertEqual(path.read_bytes(), raw, where)
            self.assertEqual([each.name for each in self.folder.iterdir()], ["flac.flac"])

    def test_sound_that_would_change_is_not_written(self) -> None:
        path = self.made("mp3")
        raw = path.read_bytes()

        def spoil(working: Path, *args: object, **more: object) -> tuple[str, ...]:
            spoiled = bytearray(working.read_bytes())
            spoiled[-2_000] ^= 1
            working.write_bytes(spoiled)
            return ()

        with (
            mock.patch("rumbrel.core.workflows.edit_tags.edit_tags", spoil),
            self.assertRaisesRegex(TagError, "sound would not be the same"),
        ):
            self.edit(path, TagChange(fields={"title": ("New",)}))
        self.assertEqual(path.read_bytes(), raw)

    def test_what_does_not_read_back_is_not_written(self) -> None:
        path = self.made("flac")
        raw = path.read_bytes()
        change = TagChange(fields={"title": ("New",), "album": ()}, covers=(picture(5),))
        as_asked = replace(self.told(path), fields={**self.told(path).fields, "title": ("New",)}, covers=(picture(5),))
        without = {name: values for name, values in as_asked.fields.items() if name != "album"}
        for after, words in (
            (as_asked, "'album' does not read back"),
            (replace(as_asked, fields={name: values for name, values in without.items() if name != "title"}), "'title' does not"),
            (replace(as_asked, fields={**without, "comment": ("x",)}), "changed 'comment' too"),
            (replace(as_asked, fields=without, covers=(picture(6),)), "pictures do not read back"),
            (replace(as_asked, fields=without, chapters=(Chapter(start_seconds=0, end_seconds=1, title="x"),)), "chapters too"),
        ):  # fmt: skip
            read = mock.patch("rumbrel.core.workflows.edit_tags.read_tags", side_effect=[self.told(path), after])
            with self.subTest(words=words), read, self.assertRaisesRegex(TagError, words):
                self.edit(path, change)
            self.assertEqual(path.read_bytes(), raw)

    def test_another_file_and_one_that_holds_no_tags_are_said(self) -> None:
        path = self.made("flac")
        facts = inspect_file(path)
        path.touch()
        with self.assertRaisesRegex(TagError, "changed since it was scanned"):
            edit_file(facts, TagChange(fields={"title": ("New",)}))
        caf = write_sound(self.folder / "a.caf")
        with self.assertRaisesRegex(TagError, "Tags of CAF cannot be written"):
            self.edit(caf, TagChange(fields={"title": ("New",)}))
        unfinished = write_sound(self.folder / "b.wav")
        raw = unfinished.read_bytes()
        unfinished.write_bytes(raw[:40] + bytes(4) + raw[44:])
        with self.assertRaisesRegex(TagError, "header is wrong"):
            self.edit(unfinished, TagChange(fields={"title": ("New",)}))

    def test_a_links_own_file_is_changed_and_its_mode_kept(self) -> None:
        path, link = self.made("flac"), self.folder / "link.flac"
        path.chmod(0o640)
        link.symlink_to(path)
        self.edit(link, TagChange(fields={"title": ("New",)}))
        self.assertTrue(link.is_symlink())
        self.assertEqual((self.told(path).first("title"), path.stat().st_mode & 0o777), ("New", 0o640))


class WishTests(TestCase):
    def files(self, *fields: dict[str, tuple[str, ...]], name: str = "x") -> list[NamedFile]:
        return [NamedFile(id=number, name=name, fields=each) for number, each in enumerate(fields, 1)]

    def test_values_are_set_taken_out_swapped_and_trimmed(self) -> None:
        files = self.files({"title": ("a",), "artist": ("b",)}, {"title": (" c  d ",), "genre": ("x",)})
        self.assertEqual(
            changes_for(files, TagWish(values={"genre": "x", "title": "a"})),
            {1: {"genre": ("x",)}, 2: {"title": ("a",)}},
        )
        self.assertEqual(changes_for(files, TagWish(values={"genre": " "})), {2: {"genre": ()}})
        self.assertEqual(
            changes_for(files, TagWish(values={"artist": "b; e;"})),
            {1: {"artist": ("b", "e")}, 2: {"artist": ("b", "e")}},
        )
        self.assertEqual(changes_for(files, TagWish(swap=("title", "artist")))[2], {"title": (), "artist": (" c  d ",)})
        self.assertEqual(changes_for(files, TagWish(trims=True)), {2: {"title": ("c d",)}})
        self.assertEqual(changes_for(files, TagWish()), {})
        with self.assertRaisesRegex(TagError, "no field 'titel'"):
            changes_for(files, TagWish(values={"titel": "x"}))

    def test_numbering_follows_the_order_of_the_files(self) -> None:
        files = self.files({}, {"track": ("2/3",)}, {})
        self.assertEqual(changes_for(files, TagWish(numbers=True)), {1: {"track": ("1/3",)}, 3: {"track": ("3/3",)}})
        self.assertEqual(changes_for(files, TagWish(numbers=True, first_number=5))[3], {"track": ("7/7",)})

    def test_letter_case(self) -> None:
        said = "suite no. IV in d minor (LIVE)"
        right = {
            "sentence": "Suite no. IV in d minor (live)", "words": "Suite No. IV In D Minor (Live)",
            "upper": said.upper(), "lower": said.lower(),
        }  # fmt: skip
        self.assertEqual(set(right), set(CASES))
        for case, wanted in right.items():
            changed = changes_for(self.files({"title": (said,)}), TagWish(case=case, case_fields=("title", "album")))
            self.assertEqual(changed[1]["title"], (wanted,), case)

    def test_values_out_of_names(self) -> None:
        for pattern, name, right in (
            ("{track} {title}", "Tower days/03 Morning peal", {"track": "3", "title": "Morning peal"}),
            (
                "{album}/{track:02d} - {artist} - {title}",
                "x/Tower days/03 - A. Venning - Peal - slow",
                {"album": "Tower days", "track": "3", "artist": "A. Venning", "title": "Peal - slow"},
            ),
            ("{}/{title}", "x/Peal", {"title": "Peal"}),
            ("{track:02d}{title}", "12b", {"track": "12", "title": "b"}),
            ("{track:d} {title}", "A Peal", None),
            ("({date}) {title}", "(2024) Peal", {"date": "2024", "title": "Peal"}),
        ):
            with self.subTest(pattern=pattern):
                self.assertEqual(values_in_name(pattern, name), right)
        for pattern, words in (
            ("{", "cannot be read"), ("plain", "names no field"), ("{titel}", "no field 'titel'"), ("{title}{title}", "twice"),
            ("{title!r}", "not a width"), ("{title:>5}", "not a width"), ("{title.x}", "no field"), ("x" * 301, "longer"),
        ):  # fmt: skip
            with self.subTest(pattern=pattern[:20]), self.assertRaisesRegex(TagError, words):
                changes_for(self.files({}), TagWish(pattern=pattern))
        files = [NamedFile(id=1, name="a/01 Peal", fields={}), NamedFile(id=2, name="a/Peal", fields={"title": ("x",)})]
        self.assertEqual(
            changes_for(files, TagWish(pattern="{track:02d} {title}")), {1: {"track": ("1",), "title": ("Peal",)}}
        )
