"""Each warning by its code: when it comes, when it does not, at its very bound, and what it says."""

from dataclasses import replace
from unittest import TestCase

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.rewrap import rewrap_for
from rumbrel.core.forecast import plan_sound
from rumbrel.core.forecast.steps import After, WarningCode
from rumbrel.core.forecast.warnings import rewrap_warnings, sound_warnings, tag_warnings
from rumbrel.core.inspection import Facts, Fault, FaultCode, SoundStream
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.tags import Chapter, TagSet
from rumbrel.core.targets import find_target

FLAC = Facts(
    path="/a.flac", container="flac", codec="flac", lossless=True, sample_rate=44_100, bit_depth=16, channels=2,
    samples=441_000, bitrate_bps=800_000, bitrate_mode="variable", sound_streams=1,
)  # fmt: skip
MP3 = replace(FLAC, container="mp3", codec="mp3", lossless=False, bit_depth=None, bitrate_bps=128_000)


def after(*, lossless: bool, bitrate_bps: int = 128_000, codec: str = "mp3", rate: int = 44_100) -> After:
    return After(
        container="mp3", codec=codec, sample_rate=rate, bit_depth=16 if lossless else None, channels=2, samples=441_000,
        bitrate_bps=bitrate_bps, size_bytes=1, size_exact=False, lossless=lossless, least_bytes=1, most_bytes=1,
    )  # fmt: skip


def shape(rate: int = 44_100, channels: int = 2, depth: int = 16) -> SoundShape:
    return SoundShape(sample_rate=rate, channels=channels, depth_bits=depth)


def said(facts: Facts, result: After, to: SoundShape) -> dict[str, str]:
    return {str(warning.code): warning.text for warning in sound_warnings(facts, result, to, "flat")}


class LossTests(TestCase):
    def test_lossless_to_anything_of_its_own_shape_says_nothing(self) -> None:
        for result in (after(lossless=True), after(lossless=False), after(lossless=False, bitrate_bps=900_000)):
            self.assertEqual(said(FLAC, result, shape()), {})

    def test_lossy_to_lossless(self) -> None:
        self.assertEqual(
            said(MP3, after(lossless=True, bitrate_bps=900_000), shape()),
            {"lossy-to-lossless": "The source is lossy: the result is larger and sounds no better."},
        )

    def test_lossy_to_lossy_and_a_bitrate_above_the_sources_by_more_than_two_per_cent(self) -> None:
        for bitrate_bps, above in ((128_000, False), (130_560, False), (130_561, True), (320_000, True)):
            found = said(MP3, after(lossless=False, bitrate_bps=bitrate_bps), shape())
            self.assertEqual(found["lossy-to-lossy"], "Coded lossily a second time.")
            self.assertEqual("bitrate-above-source" in found, above, bitrate_bps)
        self.assertEqual(found["bitrate-above-source"], "320 kbit/s cannot bring back what 128 kbit/s left out.")


class ShapeTests(TestCase):
    def test_a_raised_rate(self) -> None:
        up = said(FLAC, after(lossless=False, rate=48_000), shape(48_000))
        self.assertEqual(up, {"upsampled": "Raised from 44.1 to 48 kHz; the sound does not improve."})
        down = {"rate-lowered": "Lowered from 44.1 to 32 kHz; what sounds above 16 kHz is left out."}
        self.assertEqual(said(FLAC, after(lossless=False, rate=32_000), shape(32_000)), down)
        self.assertEqual(said(FLAC, after(lossless=False, codec="opus", rate=48_000), shape(48_000)), {})

    def test_depth_between_lossless_codings(self) -> None:
        for source, to, rate, code in (
            (24, 16, 44_100, "depth-reduced"), (16, 24, 44_100, "deeper-than-source"), (16, 16, 44_100, None),
            (None, 24, 44_100, "depth-reduced"), (20, 24, 44_100, None), (16, 24, 22_050, None),
        ):  # fmt: skip
            found = said(replace(FLAC, bit_depth=source), after(lossless=True, rate=rate), shape(rate, depth=to))
            self.assertEqual([c for c in found if "de" in c], [code] if code else [], (source, to, rate))
        self.assertEqual(
            said(replace(FLAC, bit_depth=None), after(lossless=True), shape(depth=24))["depth-reduced"],
            "Rounded from floating point to 24 bit, with flat dither.",
        )
        self.assertEqual(said(replace(FLAC, bit_depth=24), after(lossless=False), shape(depth=16)), {})
        self.assertEqual(said(replace(FLAC, bit_depth=24), after(lossless=True), shape(depth=0)), {})

    def test_speakers_that_the_result_calls_otherwise(self) -> None:
        four = replace(FLAC, channels=4, speakers=("L", "R", "C", "Cs"))
        self.assertEqual(
            said(four, after(lossless=True), shape(channels=4)),
            {"speakers": "The channels are L R C Cs; the result calls them L R Ls Rs."},
        )
        self.assertEqual(set(said(four, after(lossless=True), shape(channels=2))), {"mixed"})
        for facts, channels in (
            (replace(four, speakers=("L", "R", "Ls", "Rs")), 4),
            (replace(four, speakers=()), 4),
        ):
            self.assertEqual(said(facts, after(lossless=True), shape(channels=channels)), {})


class FaultTests(TestCase):
    def test_faults_of_the_source_are_passed_on_under_their_own_code(self) -> None:
        for code, told in (
            (FaultCode.CUT_SHORT, "cut-short"), (FaultCode.DAMAGED, "damaged"), (FaultCode.OTHER_SOUND, "other-sound"),
            (FaultCode.WRONG_EXTENSION, "wrong-extension"), (FaultCode.TAGS_UNREADABLE, None),
        ):  # fmt: skip
            facts = replace(FLAC, faults=(Fault(code=code, text="As it was found."),))
            self.assertEqual(said(facts, after(lossless=False), shape()), {told: "As it was found."} if told else {})

    def test_several_sounds_name_the_one_that_is_taken_and_the_others(self) -> None:
        def stream(index: int, language: str = "", title: str = "") -> SoundStream:
            return SoundStream(index=index, codec="aac", language=language, title=title, sample_rate=48_000, channels=2)

        streams = (stream(0, "eng"), stream(1, title="Ringers"), stream(2))
        facts = replace(FLAC, sound_streams=3, sound_index=1, streams=streams)
        text = said(facts, after(lossless=False), shape())["more-sounds"]
        self.assertEqual(text, "The file has 3 sounds; number 2 is taken, not eng, number 3.")
        self.assertEqual(said(replace(FLAC, sound_streams=1, streams=streams[:1]), after(lossless=False), shape()), {})


class TagTests(TestCase):
    def test_what_the_result_cannot_hold_and_what_is_not_carried(self) -> None:
        tags = TagSet(fields={"title": ("A",)}, chapters=(Chapter(start_seconds=0, end_seconds=1, title="x"),))
        facts = replace(FLAC, tags=tags)
        lost = [warning.text for warning in tag_warnings(facts, encoding_for("au"))]
        self.assertEqual(lost, ["The result cannot hold these tags: title, chapters."])
        self.assertEqual(
            [w.text for w in tag_warnings(facts, encoding_for("wavpack"))],
            ["The result cannot hold these tags: chapters."],
        )
        self.assertEqual(list(tag_warnings(facts, encoding_for("flac"))), [])
        left = list(tag_warnings(replace(FLAC, tags=TagSet(left_out=("POPM", "UFID"))), encoding_for("flac")))
        self.assertEqual([(w.code, w.text) for w in left],
                         [(WarningCode.TAGS_LOST, "Not carried from the source's tags: POPM, UFID.")])  # fmt: skip


class RewrapTests(TestCase):
    def test_a_container_that_cannot_state_the_delay(self) -> None:
        film = replace(MP3, container="m4a", codec="aac")
        bare, whole = rewrap_for("aac", "m4a", ("adts",)), rewrap_for("aac", "matroska", ("m4a",))
        assert bare is not None and whole is not None
        codes = [(w.code, w.text) for w in rewrap_warnings(film, bare)]
        text = "AAC cannot state the encoder's delay, so a few hundredths of a second of it may be heard."
        self.assertEqual(codes, [(WarningCode.LENGTH_DIFFERS, text)])
        self.assertEqual(list(rewrap_warnings(film, whole)), [])
        self.assertEqual(list(rewrap_warnings(replace(film, container="mpegts"), bare)), [])


class StepTests(TestCase):
    def test_each_step_has_the_warnings_of_what_it_does(self) -> None:
        for facts, slug, action, codes in (
            (FLAC, "archive-flac", "copy", []),
            (MP3, "archive-flac", "convert", ["lossy-to-lossless"]),
            (replace(FLAC, sample_rate=22_050), "disc-wav", "convert", ["upsampled"]),
            (replace(FLAC, bit_depth=24), "disc-wav", "convert", ["depth-reduced"]),
            (MP3, "car-mp3", "copy", []),
            (replace(MP3, container="m4a", codec="aac"), "car-mp3", "convert", ["lossy-to-lossy", "bitrate-above-source"]),
        ):  # fmt: skip
            step = plan_sound(facts, find_target(slug))
            self.assertEqual((str(step.action), [str(w.code) for w in step.warnings]), (action, codes), slug)
