"""Comments and texts in several languages, or with a description, are carried as fields of their own."""

from pathlib import Path

import mutagen.id3

from rumbrel.core.tags import read_tags, write_tags
from tests.core.case import FolderCase
from tests.signals import write_framed, write_sound


class CommentTests(FolderCase):
    def comments(self, path: Path) -> set[tuple[str, str, str, str]]:
        frames = mutagen.id3.ID3(path).values()
        return {
            (frame.FrameID, frame.lang, frame.desc, str(frame.text[0] if frame.FrameID == "COMM" else frame.text))
            for frame in frames if frame.FrameID in ("COMM", "USLT")
        }  # fmt: skip

    def test_every_one_comes_through_every_format_and_back(self) -> None:
        source = write_sound(self.folder / "a.mp3", 9_000, subtype="MPEG_LAYER_III")
        tags, kept = mutagen.id3.ID3(), {
            ("COMM", "deu", "", "schlicht"), ("COMM", "eng", "Source", "tape 3"), ("USLT", "fra", "", "la"),
            ("USLT", "ita", "", "si"),
        }  # fmt: skip
        frames = [("COMM", "eng", "", "plain"), *sorted(kept), ("COMM", "eng", "note", " 0000012A 00000FF0 0000ABCD")]
        for kind, language, what, text in frames:
            tags.add(
                mutagen.id3.Frames[kind](encoding=3, lang=language, desc=what, text=[text] if kind == "COMM" else text)
            )
        tags.save(source)
        found = read_tags(source, container="mp3", codec="mp3")
        self.assertEqual((found.fields["comment"], found.fields["lyrics"]), (("plain",), ("la",)))
        files = {
            "flac": write_sound(self.folder / "a.flac", 9_000), "wav": write_sound(self.folder / "a.wav", 9_000),
            "ogg": write_sound(self.folder / "a.ogg", 9_000, subtype="VORBIS"),
            "m4a": write_framed(self.folder / "a.m4a", "aac", muxer="mp4"),
            "wavpack": write_framed(self.folder / "a.wv", "wavpack", muxer="wv"),
        }  # fmt: skip
        codecs = {"flac": "flac", "wav": "pcm", "ogg": "vorbis", "m4a": "aac", "wavpack": "wavpack"}
        for container, path in files.items():
            with self.subTest(container):
                # Where the format has no place for the language of the plain ones, that is said.
                said = () if container == "wav" else ("the language of comment", "the language of lyrics")
                self.assertEqual(
                    write_tags(path, found, container=container, codec=codecs[container], id3_version=4), said
                )
                again = read_tags(path, container=container, codec=codecs[container])
                back = write_sound(self.folder / f"{container}.mp3", 9_000, subtype="MPEG_LAYER_III")
                write_tags(back, again, container="mp3", codec="mp3", id3_version=4)
                comments = self.comments(back)
                # The first of each loses its language where a format has no place for it; no other one does.
                plain = {(kind, what, text) for kind, _, what, text in comments}
                self.assertLessEqual({("COMM", "", "plain"), ("USLT", "", "la")}, plain)
                self.assertLessEqual(kept - {("USLT", "fra", "", "la")}, comments)
                self.assertNotIn("0000012A", str(comments))
