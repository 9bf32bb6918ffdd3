"""Every line of a specification, at its bound and one step beyond it."""

from dataclasses import replace
from unittest import TestCase

from rumbrel.core.inspection import Facts, Fault, FaultCode
from rumbrel.core.sound.level import Level
from rumbrel.core.tags import TagRules, TagSet
from rumbrel.core.targets import Accepts, LevelRule, Target, find_target
from rumbrel.core.targets.model import NameRule
from rumbrel.core.targets.specification import Measured, specification_lines, verdict_of
from rumbrel.core.verdict import Verdict

_FACTS = Facts(
    path="/x/Bell.mp3", container="mp3", codec="mp3", sample_rate=44_100, channels=2, samples=441_000,
    bitrate_bps=128_000, bitrate_mode="constant", channel_mode="joint stereo", tags=TagSet(fields={"title": ("Bell",)}),
)  # fmt: skip
_LEVEL = Level(integrated_lufs=-19.0, range_lu=5.0, true_peak_dbtp=-1.0, sample_peak_dbfs=-1.2)
_RIGHT = Measured(
    facts=_FACTS, decoded_samples=441_000, level=_LEVEL, below_corner_dbfs=-60.0, id3_version=3,
    covers=((3, 300, 60_000),),
)  # fmt: skip


def _target() -> Target:
    radio = find_target("radio-mp3")
    row = replace(radio.accepts[0], max_bitrate_kbps=128, bit_depths=(16,))
    return replace(
        radio, accepts=(Accepts(codec="flac", containers=("flac",)), row),
        tags=TagRules(id3_version=3, covers="front", cover_pixels=300, cover_bytes=60_000, keep=("title",)),
        level=LevelRule(mode="track", loudness_lufs=-19.0, ceiling_dbtp=-1.0),
        names=NameRule(file_system="fat32", longest=8),
    )  # fmt: skip


class LineTests(TestCase):
    def wrong(self, found: Measured, target: Target | None = None) -> set[str]:
        lines = specification_lines(found, target or _target())
        return {line.what for line in lines if line.verdict is not Verdict.PASSED}

    def test_what_lies_on_every_bound_meets_it(self) -> None:
        lines = specification_lines(_RIGHT, _target())
        self.assertEqual(self.wrong(_RIGHT), set())
        self.assertEqual(verdict_of(lines), Verdict.PASSED)
        self.assertEqual(lines[0].wanted, "MP3", "of two kinds the nearer one is meant")
        self.assertEqual(len(lines), 19)
        self.assertEqual(verdict_of(()), Verdict.FAILED)
        for lufs, peak in ((-19.5, -1.0), (-18.5, -0.9)):
            level = replace(_LEVEL, integrated_lufs=lufs, true_peak_dbtp=peak)
            self.assertEqual(self.wrong(replace(_RIGHT, level=level)), set(), (lufs, peak))

    def test_what_lies_beyond_a_bound_fails_its_line_alone(self) -> None:
        facts = lambda **changed: replace(_RIGHT, facts=replace(_FACTS, **changed))  # noqa: E731
        level = lambda **changed: replace(_RIGHT, level=replace(_LEVEL, **changed))  # noqa: E731
        late = Fault(code=FaultCode.WRONG_EXTENSION, text="Named otherwise.")
        cases = (
            ({"Sample rate, kHz"}, facts(sample_rate=48_000)),
            ({"Bit depth"}, facts(bit_depth=24)),
            ({"Channels"}, facts(channels=1)),
            ({"Bitrate mode"}, facts(bitrate_mode="average")),
            ({"Bitrate, kbit/s"}, facts(bitrate_bps=127_400)),
            ({"Channel mode"}, facts(channel_mode="stereo")),
            ({"Pictures"}, facts(has_video=True)),
            ({"Decodes whole, samples"}, replace(_RIGHT, decoded_samples=440_999)),
            ({"Below 5 Hz, dBFS"}, replace(_RIGHT, below_corner_dbfs=-59.9)),
            ({"Loudness, LUFS"}, level(integrated_lufs=-19.6)),
            ({"Loudness, LUFS"}, level(integrated_lufs=-18.4)),
            ({"True peak, dBTP"}, level(true_peak_dbtp=-0.8)),
            ({"ID3 version"}, replace(_RIGHT, id3_version=4)),
            ({"Tags"}, facts(tags=TagSet(fields={"title": ("Bell",), "genre": ("Bells",)}))),
            ({"Covers"}, replace(_RIGHT, covers=((3, 300, 60_000), (4, 10, 10)))),
            ({"Covers, pixels"}, replace(_RIGHT, covers=((3, 301, 60_000),))),
            ({"Covers, bytes"}, replace(_RIGHT, covers=((3, 300, 60_001),))),
            ({"File name"}, facts(path="/x/B?l.mp3")),
            ({"File name, characters"}, facts(path="/x/Bells.mp3")),
            ({"Faults"}, facts(faults=(late,))),
        )
        for expected, found in cases:
            with self.subTest(expected=expected):
                self.assertEqual(self.wrong(found), expected)
                self.assertEqual(verdict_of(specification_lines(found, _target())), Verdict.FAILED)

    def test_a_player_that_is_not_strict_has_its_tolerance(self) -> None:
        car = find_target("car-mp3")
        # Two per cent of 320 are 6.4.
        for bps, wrong in ((326_400, set()), (326_500, {"Bitrate, kbit/s"})):
            found = replace(_RIGHT, facts=replace(_FACTS, bitrate_bps=bps), id3_version=4)
            self.assertEqual(self.wrong(found, car), wrong)
        harmless = Fault(code=FaultCode.WRONG_EXTENSION, text="Named otherwise.")
        found = replace(_RIGHT, facts=replace(_FACTS, faults=(harmless,)), id3_version=4)
        self.assertEqual(self.wrong(found, car), set())
