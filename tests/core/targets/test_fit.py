"""Each thing a target can object to, at its very bound, and what follows from it."""

from dataclasses import replace
from unittest import TestCase

from rumbrel.core.inspection import Facts, Fault, FaultCode
from rumbrel.core.targets import Accepts, FitKind, Target, find_target, fit_to

FLAC = Facts(
    path="/a.flac", container="flac", codec="flac", lossless=True, sample_rate=44_100, bit_depth=16, channels=2,
    samples=441_000, bitrate_bps=800_000, bitrate_mode="variable", sound_streams=1,
)  # fmt: skip
MP3 = replace(
    FLAC, container="mp3", codec="mp3", lossless=False, bit_depth=None, bitrate_bps=128_000, bitrate_mode="constant",
    channel_mode="joint stereo",
)  # fmt: skip


def target(*, strict: bool = False, **row: object) -> Target:
    """A target of FLAC or MP3 with one row of limits, which makes MP3."""
    values = {"codec": "mp3", "containers": ("mp3",), **row}
    return replace(find_target("car-mp3"), accepts=(Accepts(**values),), strict=strict)  # type: ignore[arg-type]


class ObjectionTests(TestCase):
    def test_every_limit_at_its_bound(self) -> None:
        for facts, row, reason in (
            (MP3, {}, None),
            (MP3, {"sample_rates": (44_100, 48_000)}, None),
            (MP3, {"sample_rates": (32_000, 48_000)}, "the car takes MP3 at 32 or 48 kHz"),
            (MP3, {"channels": (2,)}, None),
            (MP3, {"channels": (1,)}, "the car takes mono"),
            (MP3, {"max_bitrate_kbps": 128}, None),
            (MP3, {"max_bitrate_kbps": 125}, "the car takes at most 125 kbit/s"),
            (replace(MP3, bitrate_bps=130_560), {"max_bitrate_kbps": 128}, None),
            (replace(MP3, bitrate_bps=130_561), {"max_bitrate_kbps": 128}, "the car takes at most 128 kbit/s"),
            (MP3, {"modes": ("constant",)}, None),
            (MP3, {"modes": ("variable", "average")}, "the car wants a variable or average bitrate"),
            (MP3, {"bitrates_kbps": (96, 128)}, None),
            (replace(MP3, bitrate_bps=128_499), {"bitrates_kbps": (128,)}, None),
            (replace(MP3, bitrate_bps=128_500), {"bitrates_kbps": (128,)}, "the car wants exactly 128 kbit/s"),
            (MP3, {"channel_modes": ("joint stereo",)}, None),
            (MP3, {"channel_modes": ("stereo",)}, "the car wants stereo"),
            (replace(MP3, has_video=True), {"video": True}, None),
        ):
            fit = fit_to(facts, target(**row))  # type: ignore[arg-type]
            self.assertIs(fit.kind, FitKind.CONVERT if reason else FitKind.PLAYS, (facts, row))
            self.assertEqual(fit.reason, reason or "the car plays it as it is")
            self.assertIsNotNone(fit.shape)

    def test_depth_of_lossless_sound(self) -> None:
        for depth, plays in ((16, True), (24, False), (None, True)):
            facts = replace(FLAC, bit_depth=depth)
            fit = fit_to(facts, target(codec="flac", containers=("flac",), bit_depths=(8, 16)))
            self.assertEqual(fit.kind is FitKind.PLAYS, plays, depth)

    def test_a_moment_says_nothing_about_an_average(self) -> None:
        loud = replace(MP3, bitrate_bps=300_000, bitrate_mode="variable")
        for samples, plays in ((88_199, True), (88_200, False)):
            fit = fit_to(replace(loud, samples=samples), target(max_bitrate_kbps=128))
            self.assertEqual(fit.kind is FitKind.PLAYS, plays, samples)
        constant = replace(loud, bitrate_mode="constant", samples=100)
        self.assertIs(fit_to(constant, target(max_bitrate_kbps=128)).kind, FitKind.CONVERT)

    def test_strict_allows_no_tolerance_and_no_fault(self) -> None:
        over = replace(MP3, bitrate_bps=128_001)
        self.assertIs(fit_to(over, target(max_bitrate_kbps=128)).kind, FitKind.PLAYS)
        self.assertIs(fit_to(over, target(max_bitrate_kbps=128, strict=True)).kind, FitKind.CONVERT)
        named = replace(MP3, faults=(Fault(code=FaultCode.WRONG_EXTENSION, text="Named otherwise."),))
        self.assertIs(fit_to(named, target()).kind, FitKind.PLAYS)
        fit = fit_to(named, target(strict=True))
        self.assertEqual((fit.kind, fit.reason), (FitKind.CONVERT, "the car the source has faults"))

    def test_another_codec_and_no_sound(self) -> None:
        self.assertEqual(fit_to(FLAC, target()).reason, "the car takes MP3 only")
        two = replace(target(), accepts=(target().accepts[0], Accepts(codec="pcm", containers=("wav",))))
        self.assertEqual(fit_to(FLAC, two).reason, "the car takes MP3 or WAV only")
        gone = replace(FLAC, faults=(Fault(code=FaultCode.MISSING, text="The file is not there."),))
        self.assertEqual(
            (fit_to(gone, target()).kind, fit_to(gone, target()).reason), (FitKind.CANNOT, "The file is not there.")
        )
        empty = fit_to(replace(FLAC, samples=0), target())
        self.assertEqual(
            (empty.kind, empty.reason, empty.shape), (FitKind.CANNOT, "There is no sound in this file.", None)
        )


class RewrapTests(TestCase):
    def test_sound_that_only_needs_another_container(self) -> None:
        film = replace(MP3, container="m4a", codec="aac", has_video=True)
        phone = find_target("pocket-aac")
        fit = fit_to(film, phone)
        self.assertEqual((fit.kind, fit.reason), (FitKind.REWRAP, "the phone takes sound without pictures"))
        assert fit.rewrap is not None
        self.assertEqual((fit.rewrap.codec, fit.rewrap.container), ("aac", "m4a"))
        in_matroska = fit_to(replace(film, container="matroska", has_video=False), phone)
        self.assertEqual((in_matroska.kind, in_matroska.reason), (FitKind.REWRAP, "the phone wants AAC in M4A"))

    def test_late_or_faulty_sound_is_converted(self) -> None:
        film = replace(MP3, container="matroska", codec="aac")
        phone = find_target("pocket-aac")
        self.assertIs(fit_to(film, phone).kind, FitKind.REWRAP)
        self.assertIs(fit_to(replace(film, lead_samples=1), phone).kind, FitKind.CONVERT)
        cut = replace(film, faults=(Fault(code=FaultCode.CUT_SHORT, text="Cut short."),))
        self.assertIs(fit_to(cut, phone).kind, FitKind.CONVERT)
        for codec, container in (("mp3", "flv"), ("flac", "caf")):
            row = {"codec": codec, "containers": (codec,)}
            self.assertIs(fit_to(replace(film, codec=codec, container=container), target(**row)).kind, FitKind.CONVERT)


class RefusalTests(TestCase):
    def test_what_the_encoder_cannot_take_is_said_and_needs_no_shape(self) -> None:
        twelve = replace(FLAC, channels=12)
        fit = fit_to(twelve, find_target("archive-flac"))
        self.assertIs(fit.kind, FitKind.PLAYS, "it is FLAC already")
        self.assertEqual((fit.shape, bool(fit.refusal)), (None, True))
        fit = fit_to(replace(twelve, codec="pcm", container="wav"), find_target("archive-flac"))
        self.assertIs(fit.kind, FitKind.CANNOT)
        self.assertEqual(fit.reason, fit.refusal)
