"""Every row of the two tables is asked every question, so that no format is half added."""

from unittest import TestCase

from rumbrel.core.encoders.encodings import ENCODINGS
from rumbrel.core.encoders.rewrap import rewrap_for
from rumbrel.core.formats.table import (
    CODEC_BY_KEY,
    CODECS,
    CONTAINER_BY_KEY,
    CONTAINERS,
    SOUND_SUFFIXES,
    Lengths,
    TagForm,
    codec_for,
    codec_row,
    container_for,
    container_row,
    format_label,
)
from rumbrel.core.inspection.lengths import length_reader
from rumbrel.core.tags.openers import opener_for
from rumbrel.core.tags.writing import _WRITERS


class ContainerTests(TestCase):
    def test_each_is_named_once_and_can_be_read(self) -> None:
        for row in CONTAINERS:
            self.assertEqual(container_row(row.key), row)
            self.assertTrue(row.suffixes and all(s.startswith(".") and s == s.lower() for s in row.suffixes), row.key)
            self.assertTrue(set(row.suffixes) <= SOUND_SUFFIXES)
            self.assertTrue(row.ffmpeg_names or row.plain, f"{row.key}: who reads it?")
            for name in row.ffmpeg_names:
                self.assertEqual(container_for(f"{name},other"), row)
            self.assertRegex(row.media_type, r"^(audio|video|application)/[a-z0-9.-]+$")
            self.assertTrue(callable(length_reader(row.key)))
            self.assertLessEqual(set(row.heard_as_is), set(CODEC_BY_KEY))
        self.assertEqual(len(CONTAINER_BY_KEY), len(CONTAINERS))

    def test_each_form_of_tags_has_a_reader_and_our_results_a_writer(self) -> None:
        for row in CONTAINERS:
            opener = opener_for(row.key, "opus" if row.key == "ogg" else "")
            by_hand = row.tags in (TagForm.RIFF, TagForm.ATTACHED, TagForm.NONE)
            self.assertEqual(opener is None, by_hand, f"{row.key}: {row.tags} and {opener}")
            if row.chapters:
                self.assertTrue(row.tags in _WRITERS or row.tags is TagForm.RIFF, row.key)
        for encoding in ENCODINGS:
            form = container_row(encoding.container).tags
            self.assertTrue(form in _WRITERS or form in (TagForm.RIFF, TagForm.NONE), encoding.key)

    def test_bare_samples_have_no_header_and_a_codec_of_the_table(self) -> None:
        bare = [row for row in CONTAINERS if row.bare]
        self.assertEqual([row.key for row in bare], ["vox", "ulaw", "alaw"])
        for row in bare:
            assert row.bare is not None
            self.assertIn(row.bare.codec, CODEC_BY_KEY)
            self.assertTrue(row.plain and not row.ffmpeg_names)
            self.assertEqual(row.bare.samples_a_byte, 2 if row.key == "vox" else 1)

    def test_what_is_plain_is_measured_by_its_size_unless_it_is_bare(self) -> None:
        for row in CONTAINERS:
            if row.lengths is Lengths.PLAIN:
                self.assertTrue(row.plain, row.key)
            if row.plain and not row.bare and row.ffmpeg_names:
                self.assertIs(row.lengths, Lengths.PLAIN, row.key)


class CodecTests(TestCase):
    def test_each_is_named_once(self) -> None:
        for row in CODECS:
            self.assertEqual(codec_row(row.key), row)
            self.assertTrue(row.ffmpeg_names, row.key)
            for name in row.ffmpeg_names:
                self.assertEqual(codec_for(name), row)
            self.assertTrue(format_label("matroska", row.key))
            self.assertTrue(row.lossless or not row.checksummed or row.key in ("ac3", "eac3"), row.key)
        names = [name for row in CODECS for name in row.ffmpeg_names]
        self.assertEqual(len(names), len(set(names)))

    def test_what_has_no_row_has_no_special_trait(self) -> None:
        self.assertFalse(codec_row("new").checksummed or codec_row("new").lossless)
        made_up = container_row("new")
        self.assertEqual((made_up.key, made_up.label, made_up.plain, made_up.tags), ("new", "NEW", False, TagForm.NONE))
        self.assertEqual(format_label("new", "newer"), "NEWER")


class EncodingTests(TestCase):
    def test_each_encoding_stands_on_rows_that_know_it(self) -> None:
        for encoding in ENCODINGS:
            container = CONTAINER_BY_KEY[encoding.container]
            codec = CODEC_BY_KEY[encoding.codec]
            self.assertIn(encoding.suffix, container.suffixes, encoding.key)
            self.assertEqual(encoding.lossless, codec.lossless, encoding.key)
            if "variable" in encoding.modes and not encoding.lossless:
                self.assertIsNotNone(codec.kbps_a_channel, f"{encoding.key}: how large will it be?")
            if encoding.codec == "pcm" and encoding.container != "caf":
                self.assertIsNotNone(container.header_bytes, encoding.key)
            if encoding.codec == "pcm-float" and encoding.container != "caf":
                self.assertIsNotNone(container.float_header_bytes, encoding.key)
            if encoding.larger:
                larger = next(each for each in ENCODINGS if each.key == encoding.larger)
                self.assertEqual((larger.codec, larger.largest_bytes), (encoding.codec, None))
                self.assertEqual(larger.depths, encoding.depths)

    def test_what_is_re_wrapped_lands_in_a_container_of_the_table(self) -> None:
        for codec in CODECS:
            for container in CONTAINERS:
                row = rewrap_for(codec.key, "matroska", (container.key,))
                if row is not None:
                    self.assertIn(row.suffix, container.suffixes)
                    self.assertEqual(row.states_length, container.states_delay, (codec.key, container.key))
