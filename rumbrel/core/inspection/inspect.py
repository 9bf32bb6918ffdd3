"""From a path to Facts. A faulty file yields Facts with problems, never an exception."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import av.error

from rumbrel.core.errors import TagError
from rumbrel.core.formats.table import Container, codec_for, container_for
from rumbrel.core.tags import EMPTY_TAGS, TagSet, read_tags

from .facts import Facts, Problem, ProblemCode
from .lengths import Length, length_reader

__all__ = ["inspect_file"]


def inspect_file(path: Path) -> Facts:
    """Facts of one file, by its content."""
    try:
        status = path.stat()
    except OSError as error:
        text = f"The file is not there: {error.strerror}. Check that its disk or network folder is connected."
        return _faulty(Facts(path=str(path)), ProblemCode.MISSING, text)
    facts = Facts(path=str(path), size_bytes=status.st_size, modified_ns=status.st_mtime_ns)
    if not path.is_file():
        return _faulty(facts, ProblemCode.MISSING, "This is not a file.")
    if status.st_size == 0:
        return _faulty(facts, ProblemCode.EMPTY, "The file has no content. Copy it again from where it came.")
    try:
        with av.open(str(path), metadata_errors="replace") as container:
            return _inspect_open(path, facts, container)
    except PermissionError:
        return _faulty(facts, ProblemCode.UNREADABLE, "Rumbrel may not read this file. Change its permissions.")
    except (av.error.FFmpegError, OSError, ValueError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        return _faulty(facts, ProblemCode.UNREADABLE, f"This is no sound file that can be read ({reason}).")


def _faulty(facts: Facts, code: ProblemCode, text: str) -> Facts:
    return replace(facts, problems=(*facts.problems, Problem(code=code, text=text)))


def _inspect_open(path: Path, facts: Facts, opened: Any) -> Facts:
    container = container_for(opened.format.name)
    sounds = opened.streams.audio
    moving = [s for s in opened.streams.video if not _is_cover(s)]
    facts = replace(facts, container=container.key, sound_streams=len(sounds), has_video=bool(moving))
    if not sounds:
        return _faulty(facts, ProblemCode.NO_SOUND, "There is no sound in this file.")
    context = sounds[0].codec_context
    if _is_protected(sounds[0]):
        return _faulty(
            facts,
            ProblemCode.PROTECTED,
            "The sound is protected by its seller and cannot be decoded. Ask for an open copy.",
        )
    if context is None or not context.sample_rate or not context.channels:
        return _faulty(facts, ProblemCode.UNREADABLE, "The file does not say what its sound is made of.")
    codec = codec_for(context.name)
    depth = _bit_depth(codec.key, context) if codec.lossless else None
    facts = replace(
        facts,
        codec=codec.key,
        lossless=codec.lossless,
        sample_rate=context.sample_rate,
        bit_depth=depth,
        channels=context.channels,
    )
    try:
        length = length_reader(container.key)(path, sounds[0])
    except OSError as error:
        return _faulty(facts, ProblemCode.UNREADABLE, f"The file could not be read: {error.strerror}.")
    facts = _with_length(facts, length)
    tags, problem = _tags(path, facts, opened)
    facts = replace(facts, tags=tags, problems=facts.problems + problem)
    return _judge_name(facts, container)


def _is_cover(stream: Any) -> bool:
    return stream.codec_context is not None and stream.codec_context.name in ("png", "mjpeg", "bmp", "gif")


def _is_protected(stream: Any) -> bool:
    tag = getattr(stream.codec_context, "codec_tag", "") if stream.codec_context is not None else ""
    return tag in ("drms", "enca")


def _bit_depth(codec: str, context: Any) -> int | None:
    """Meaningful bits of a sample. FFmpeg's sample format only says 16 or 32, so headers are read."""
    name, extra = context.name, context.extradata or b""
    if codec == "pcm":
        return next((bits for bits in (64, 32, 24, 16, 8) if str(bits) in name.removeprefix("pcm_")), None)
    if codec == "flac" and len(extra) >= 18:
        # STREAMINFO (RFC 9639, 8.2): 20 bits rate, 3 bits channels less 1, 5 bits depth less 1.
        return (int.from_bytes(extra[12:14], "big") >> 4 & 0x1F) + 1
    if codec == "alac" and len(extra) >= 36:
        return int(extra[12 + 5])
    if context.format is not None:
        packed = context.format.packed.name
        return {"u8": 8, "s16": 16, "s32": 24}.get(packed)
    return None


def _with_length(facts: Facts, length: Length) -> Facts:
    seconds = length.samples / facts.sample_rate
    bitrate = length.bitrate_bps or 0
    if facts.codec == "pcm" and facts.bit_depth:
        bitrate = facts.sample_rate * facts.bit_depth * facts.channels
    elif facts.codec in ("mu-law", "a-law"):
        bitrate = facts.sample_rate * 8 * facts.channels
    elif not bitrate and seconds:
        bitrate = round(facts.size_bytes * 8 / seconds)
    facts = replace(
        facts,
        samples=length.samples,
        stated_samples=length.stated,
        bitrate_bps=bitrate,
        bitrate_mode=length.bitrate_mode or "variable",
        channel_mode=length.channel_mode,
    )
    if not length.samples and length.whole:
        return _faulty(facts, ProblemCode.NO_SOUND, "The file has the form of a sound file, but no sound in it.")
    if not length.whole:
        of_stated = f" of {_clock(length.stated / facts.sample_rate)}" if length.stated else ""
        return _faulty(
            facts,
            ProblemCode.CUT_SHORT,
            f"Cut short: {_clock(seconds)}{of_stated} can be read. Copy it again from where it came.",
        )
    return facts


def _clock(seconds: float) -> str:
    whole = int(seconds)
    return f"{whole // 60}:{whole % 60:02d}"


def _tags(path: Path, facts: Facts, opened: Any) -> tuple[TagSet, tuple[Problem, ...]]:
    try:
        return read_tags(path, container=facts.container, codec=facts.codec, fallback=dict(opened.metadata)), ()
    except TagError as error:
        return EMPTY_TAGS, (Problem(code=ProblemCode.TAGS_UNREADABLE, text=f"{error} The sound is not affected."),)


def _judge_name(facts: Facts, container: Container) -> Facts:
    suffix = Path(facts.path).suffix.lower()
    if not container.suffixes or suffix in container.suffixes:
        return facts
    named = f"named {suffix}" if suffix else "has no name ending"
    text = f"The file is {named} but holds {container.label}. Some players go by the name; results get the right one."
    return _faulty(facts, ProblemCode.WRONG_EXTENSION, text)
