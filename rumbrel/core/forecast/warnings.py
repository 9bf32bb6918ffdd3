"""What the user should know before: losses and vain efforts of each step."""

from collections.abc import Iterator

from rumbrel.core.encoders.encodings import Encoding
from rumbrel.core.encoders.rewrap import Rewrap
from rumbrel.core.formats.table import CONTAINER_BY_KEY, container_row
from rumbrel.core.inspection.facts import Facts, FaultCode
from rumbrel.core.sound.dither import dither_said
from rumbrel.core.sound.shape import CHANNEL_ORDERS, SoundShape
from rumbrel.core.sound.stages import mix_said
from rumbrel.core.tags import BROADCAST_CONTAINERS, unheld_fields
from rumbrel.core.targets.fit import BITRATE_SLACK

from .steps import After, Warning, WarningCode

__all__ = ["rewrap_warnings", "sound_warnings", "tag_warnings"]


def _warning(code: WarningCode, text: str) -> Warning:
    return Warning(code=code, text=text)


def sound_warnings(facts: Facts, after: After, shape: SoundShape, dither: str) -> Iterator[Warning]:
    """What the conversion does to the sound."""
    if not facts.lossless:
        yield from _lossy_warnings(facts, after)
    # Opus knows one rate only; carrying other rates in it is its normal way and no loss of truth.
    if shape.sample_rate > facts.sample_rate and after.codec != "opus":
        yield _warning(
            WarningCode.UPSAMPLED,
            f"Raised from {facts.sample_rate / 1000:g} to {shape.sample_rate / 1000:g} kHz; the sound does not improve.",
        )
    if shape.sample_rate < facts.sample_rate and after.codec != "opus":
        yield _warning(
            WarningCode.RATE_LOWERED,
            f"Lowered from {facts.sample_rate / 1000:g} to {shape.sample_rate / 1000:g} kHz; "
            f"what sounds above {shape.sample_rate / 2000:g} kHz is left out.",
        )
    if facts.lossless and after.lossless and shape.depth_bits:
        yield from _depth_warnings(facts, shape, dither)
    for fault in facts.faults:
        if fault.salvageable:
            code = WarningCode.DAMAGED if fault.code is FaultCode.DAMAGED else WarningCode.CUT_SHORT
            yield _warning(code, fault.text)
        elif fault.code is FaultCode.WRONG_EXTENSION:
            yield _warning(WarningCode.WRONG_EXTENSION, fault.text)
        elif fault.code is FaultCode.BEYOND_FULL_SCALE and (shape.depth_bits or not after.lossless):
            yield _warning(WarningCode.CLIPPING, fault.text)
    if mixed := mix_said(facts.channels, shape.channels, facts.speakers):
        yield _warning(WarningCode.MIXED, mixed)
    usual = CHANNEL_ORDERS.get(facts.channels)
    if facts.speakers and usual and facts.speakers != usual and shape.channels == facts.channels:
        text = f"The channels are {' '.join(facts.speakers)}; the result calls them {' '.join(usual)}."
        yield _warning(WarningCode.SPEAKERS, text)
    yield from _choice_warnings(facts)


def rewrap_warnings(facts: Facts, row: Rewrap) -> Iterator[Warning]:
    """What packing anew cannot keep."""
    yield from _choice_warnings(facts)
    yield from _left_out_warnings(facts)
    if not row.states_length and container_row(facts.container).states_delay:
        label = CONTAINER_BY_KEY[row.container].label
        text = f"{label} cannot state the encoder's delay, so a few hundredths of a second of it may be heard."
        yield _warning(WarningCode.LENGTH_DIFFERS, text)


def _choice_warnings(facts: Facts) -> Iterator[Warning]:
    for fault in facts.faults:
        if fault.code is FaultCode.OTHER_SOUND:
            yield _warning(WarningCode.OTHER_SOUND, fault.text)
    if facts.sound_streams > 1 and not facts.one_of_sounds:
        named = [s.language or s.title or f"number {s.index + 1}" for s in facts.streams]
        others = ", ".join(name for index, name in enumerate(named) if index != facts.sound_index) or "the others"
        taken = f"number {facts.sound_index + 1} is taken"
        yield _warning(WarningCode.MORE_SOUNDS, f"The file has {facts.sound_streams} sounds; {taken}, not {others}.")


def _lossy_warnings(facts: Facts, after: After) -> Iterator[Warning]:
    if after.lossless:
        yield _warning(WarningCode.LOSSY_TO_LOSSLESS, "The source is lossy: the result is larger and sounds no better.")
        return
    yield _warning(WarningCode.LOSSY_TO_LOSSY, "Coded lossily a second time.")
    if after.bitrate_bps > facts.bitrate_bps * BITRATE_SLACK:
        yield _warning(
            WarningCode.BITRATE_ABOVE_SOURCE,
            f"{after.bitrate_bps // 1000} kbit/s cannot bring back what {round(facts.bitrate_bps / 1000)} kbit/s left out.",
        )


def _depth_warnings(facts: Facts, shape: SoundShape, dither: str) -> Iterator[Warning]:
    source = facts.bit_depth
    if source is None or source > shape.depth_bits:
        yield _warning(
            WarningCode.DEPTH_REDUCED,
            f"Rounded from {f'{source} bit' if source else 'floating point'} to {shape.depth_bits} bit, "
            f"{dither_said(dither, shape.sample_rate)}.",
        )
    elif source < shape.depth_bits and shape.sample_rate == facts.sample_rate and source % 8 == 0:
        yield _warning(
            WarningCode.DEEPER_THAN_SOURCE,
            f"Raised from {source} to {shape.depth_bits} bit; the sound does not improve.",
        )


def tag_warnings(facts: Facts, encoding: Encoding) -> Iterator[Warning]:
    """What the result's container cannot hold at all."""
    lost = unheld_fields(facts.tags, container=encoding.container)
    if lost:
        yield _warning(WarningCode.TAGS_LOST, f"The result cannot hold these tags: {', '.join(lost)}.")
    if facts.tags.broadcast and encoding.container not in BROADCAST_CONTAINERS:
        said = " and ".join(facts.tags.broadcast)
        yield _warning(WarningCode.TAGS_LOST, f"The result cannot hold what the broadcast file states ({said}).")
    yield from _left_out_warnings(facts)


def _left_out_warnings(facts: Facts) -> Iterator[Warning]:
    if facts.tags.left_out:
        yield _warning(WarningCode.TAGS_LOST, f"Not carried from the source's tags: {', '.join(facts.tags.left_out)}.")
