"""From a path to Facts. A faulty file yields Facts with faults, never an exception."""

import stat
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import av
import av.error

from rumbrel.core.containers.dsdiff import unpacked_frames
from rumbrel.core.errors import TagError
from rumbrel.core.files import content_mark
from rumbrel.core.formats.table import (
    CODEC_BY_KEY,
    CONTAINER_BY_KEY,
    CONTAINERS,
    Bare,
    Container,
    codec_for,
    codec_row,
    container_for,
)
from rumbrel.core.reasons import why_failed
from rumbrel.core.sound.shape import speakers_named
from rumbrel.core.tags import EMPTY_TAGS, TagSet, read_chapters, read_tags

from .ends import lacks_index
from .facts import Facts, Fault, FaultCode, Length, SoundStream
from .headers import read_heading
from .heading import Heading
from .lengths import length_reader, riff_coding, riff_valid_bits, wavpack_bits
from .links import inspect_links, stream_links
from .peaks import with_floating_peak

__all__ = ["inspect_file"]


def inspect_file(path: Path, *, suffix: str | None = None, sound: str = "") -> Facts:
    """Facts of one file, by its content. suffix is the name ending it is judged by, if not its own.

    sound says which of several is meant: its number from 1, or its language as the file states it.
    """
    facts = _judge_name(_inspect(path, suffix or path.suffix, sound), suffix or path.suffix)
    if not facts.size_bytes or any(fault.code in _NO_CONTENT for fault in facts.faults):
        return facts
    try:
        return replace(with_floating_peak(facts), content_mark=content_mark(path, facts.size_bytes))
    except OSError:
        # What keeps it from being read is among the faults.
        return facts


def _inspect(path: Path, suffix: str, sound: str) -> Facts:
    try:
        status = path.stat()
    except OSError as error:
        text = f"The file is not there: {error.strerror}. Check that its disk or network folder is connected."
        return _faulty(Facts(path=str(path)), FaultCode.MISSING, text)
    facts = Facts(path=str(path), size_bytes=status.st_size, modified_ns=status.st_mtime_ns)
    if not stat.S_ISREG(status.st_mode):
        return _faulty(facts, FaultCode.MISSING, "This is not a file.")
    if status.st_size == 0:
        return _faulty(facts, FaultCode.EMPTY, "The file has no content. Copy it again from where it came.")
    if status.st_size >= _SMALLEST_PLACEHOLDER_BYTES and status.st_blocks == 0:
        text = "Only a placeholder is here; the content is kept elsewhere. Fetch the file, then scan again."
        return _faulty(facts, FaultCode.NOT_PRESENT, text)
    bare = _BARE_BY_SUFFIX.get(suffix.lower())
    if bare and not _has_header(path):
        return _inspect_bare(facts, *bare)
    try:
        ranges = stream_links(path, status.st_size)
        if len(ranges) > 1:
            joined = inspect_links(path, ranges, lambda piece: _inspect(piece, suffix, sound))
            return replace(joined, path=facts.path, size_bytes=facts.size_bytes, modified_ns=facts.modified_ns)
        heading = read_heading(path, status.st_size)
        if heading is not None:
            return _inspect_heading(path, facts, heading)
        with av.open(str(path), format=_bare_format(path), metadata_errors="replace") as container:
            return _inspect_open(path, facts, container, sound)
    except PermissionError:
        return _faulty(facts, FaultCode.UNREADABLE, "Rumbrel may not read this file. Change its permissions.")
    except (av.error.FFmpegError, OSError, ValueError) as error:
        return _faulty(facts, FaultCode.UNREADABLE, _why_unreadable(path, error))


_FEW_FRAMES_BYTES = 8192
_ADTS_MARKS = (b"\xff\xf1", b"\xff\xf9")


def _bare_format(path: Path) -> str | None:
    """Of bare AAC frames FFmpeg wants to see many before it believes them; a short file has few."""
    if path.stat().st_size > _FEW_FRAMES_BYTES:
        return None
    with path.open("rb") as file:
        return "aac" if file.read(2) in _ADTS_MARKS else None


def _why_unreadable(path: Path, error: Exception) -> str:
    if lacks_index(path):
        return (
            "The index at the end of the file is missing: it was cut short, or its recording was never finished. "
            "Copy it again from where it came."
        )
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except OSError:
        # What was said first says it.
        head = b""
    named = next((text for mark, text in _KINDS_NOT_READ if head.startswith(mark)), "")
    return named or f"This is not a sound file that can be read: {why_failed(error)}."


_KINDS_NOT_READ = (
    (
        b"ADIF",
        "This is AAC with a header of the ADIF kind, which nothing here decodes. Save it as ADTS or M4A where it plays.",
    ),
    (b"MThd", "These are notes for an instrument (MIDI), not sound."),
)
"""The marks of kinds that are known by name alone (common practice)."""


_NO_CONTENT = frozenset({FaultCode.MISSING, FaultCode.NOT_PRESENT, FaultCode.EMPTY})
# File systems keep small files in their own tables, with no blocks.
_SMALLEST_PLACEHOLDER_BYTES = 64 * 1024
_BARE_BY_SUFFIX = {suffix: (row, row.bare) for row in CONTAINERS if row.bare for suffix in row.suffixes}
_KNOWN_HEADS = (b"RIFF", b"FORM", b"OggS", b"fLaC", b"ID3", b"RIFX", b"RF64", b"caff", b".snd", b"wvpk")


def _has_header(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(4).startswith(_KNOWN_HEADS)
    except OSError:
        return True


def _inspect_bare(facts: Facts, container: Container, bare: Bare) -> Facts:
    """Bare telephone samples: nothing in the file says what they are, so here the name must."""
    rate = 8_000
    return replace(
        facts,
        container=container.key,
        codec=bare.codec,
        sample_rate=rate,
        channels=1,
        samples=facts.size_bytes * bare.samples_a_byte,
        bitrate_bps=rate * 8 // bare.samples_a_byte,
        bitrate_mode="constant",
        sound_streams=1,
    )


def _faulty(facts: Facts, code: FaultCode, text: str) -> Facts:
    return replace(facts, faults=(*facts.faults, Fault(code=code, text=text)))


def _inspect_heading(path: Path, facts: Facts, heading: Heading) -> Facts:
    """Facts from a heading, made in one go: this is the way of nearly every file of a large collection."""
    codec, length = heading.codec, heading.length
    stream = SoundStream(
        index=0, codec=codec, language="", title="", sample_rate=heading.sample_rate, channels=heading.channels
    )
    tags, faults = _tags(path, heading.container, codec, {})
    return Facts(
        path=facts.path,
        size_bytes=facts.size_bytes,
        modified_ns=facts.modified_ns,
        container=heading.container,
        codec=codec,
        lossless=CODEC_BY_KEY[codec].lossless,
        sample_rate=heading.sample_rate,
        bit_depth=heading.bit_depth,
        valid_bits=heading.valid_bits,
        stored_bits=heading.stored_bits,
        channels=heading.channels,
        speakers=heading.speakers,
        samples=length.samples,
        stated_samples=length.stated,
        bitrate_bps=_bitrate(heading, facts.size_bytes),
        bitrate_mode=length.bitrate_mode or "variable",
        channel_mode=length.channel_mode,
        sound_streams=1,
        streams=(stream,),
        delay_samples=length.delay_samples,
        padding_samples=length.padding_samples,
        bare=heading.bare,
        tags=tags,
        faults=(*((heading.fault,) if heading.fault else ()), *faults),
    )


def _bitrate(heading: Heading, size_bytes: int) -> int:
    if heading.codec == "pcm" and heading.bit_depth:
        return heading.sample_rate * heading.bit_depth * heading.channels
    if heading.codec in ("mu-law", "a-law"):
        return heading.sample_rate * 8 * heading.channels
    if heading.codec == "pcm-float" and heading.frame_bytes:
        return heading.sample_rate * 8 * heading.frame_bytes
    return heading.length.bitrate_bps or round(size_bytes * 8 * heading.sample_rate / heading.length.samples)


def _inspect_open(path: Path, facts: Facts, opened: Any, wish: str) -> Facts:
    container = container_for(opened.format.name)
    sounds = opened.streams.audio
    moving = [s for s in opened.streams.video if not _is_cover(s)]
    facts = replace(
        facts,
        container=container.key,
        sound_streams=len(sounds),
        streams=tuple(_stream(number, sound) for number, sound in enumerate(sounds)),
        has_video=bool(moving),
    )
    if not sounds:
        return _faulty(facts, FaultCode.NO_SOUND, "There is no sound in this file.")
    facts = _with_choice(facts, wish)
    sound = sounds[facts.sound_index]
    context = sound.codec_context
    if _is_protected(sound):
        return _faulty(
            facts,
            FaultCode.PROTECTED,
            "The sound is protected by its seller and cannot be decoded. Ask for an open copy.",
        )
    if context is None or not context.sample_rate or not context.channels:
        return _faulty(facts, FaultCode.UNREADABLE, "The file does not say what its sound is made of.")
    codec = codec_for(context.name)
    if container.key == "wav" and codec.key == "amr" and riff_coding(path) == _NMS_ADPCM:
        # FFmpeg takes the number of one telephone coding for that of another.
        codec = codec_row("nms-adpcm")
    if codec.key == "dst" and (bare := unpacked_frames(path)):
        text = f"{bare:,} frames of its one bit sound are not packed, which the decoder here would turn into noise. "
        return _faulty(facts, FaultCode.UNREADABLE, text + "Save it as DSF, or as DFF without packing, where it plays.")
    depth = _bit_depth(codec.key, context) if codec.lossless else None
    stored = None
    if container.key == "wav" and depth == 32:
        depth = riff_valid_bits(path) or depth
        stored = 32 if depth < 32 else None
    elif codec.key == "wavpack":
        depth = wavpack_bits(path)
    facts = replace(
        facts,
        codec=codec.key,
        lossless=codec.lossless,
        sample_rate=context.sample_rate,
        bit_depth=depth,
        stored_bits=stored,
        channels=context.channels,
        speakers=speakers_named([channel.name for channel in context.layout.channels]),
    )
    try:
        length = length_reader(container.key)(path, sound)
    except OSError as error:
        return _faulty(facts, FaultCode.UNREADABLE, f"The file could not be read: {error.strerror}.")
    if not length.bitrate_bps:
        length = replace(length, bitrate_bps=_coded_bitrate(path, sound, facts, length))
    facts = _with_length(facts, length)
    if moving:
        facts = _with_lead(facts, sound, moving[0])
    tags, fault = _tags(path, facts.container, facts.codec, dict(opened.metadata))
    if not tags.chapters:
        tags = replace(tags, chapters=read_chapters(opened))
    return replace(facts, tags=tags, faults=facts.faults + fault)


_NMS_ADPCM = 0x38
"""In a RIFF format chunk, as libsndfile writes it."""
_FLOAT_BITS = {"pcm_f32le": 32, "pcm_f32be": 32, "pcm_f64le": 64, "pcm_f64be": 64, "pcm_f16le": 16, "pcm_f24le": 24}
_LARGEST_READ_BYTES = 1 << 28


def _coded_bitrate(path: Path, sound: Any, facts: Facts, length: Length) -> int | None:
    """Of the sound's own packets, without covers, tags and other streams; None where the file is too large to be read for
    that, so that its size has to do."""
    bits = _FLOAT_BITS.get(sound.codec_context.name)
    if bits:
        return int(facts.sample_rate * facts.channels * bits)
    if not length.samples or facts.size_bytes > _LARGEST_READ_BYTES:
        return None
    coded = 0
    try:
        with av.open(str(path), metadata_errors="replace") as container:
            for packet in container.demux(container.streams.audio[facts.sound_index]):
                coded += packet.size
    except av.error.InvalidDataError:
        # It ends in the middle, which its length tells; what came before counts.
        pass
    return round(coded * 8 * facts.sample_rate / length.samples) or None


def _with_choice(facts: Facts, wish: str) -> Facts:
    """The sound that is wished for, where the file has several to choose from; else the first."""
    if not wish or len(facts.streams) < 2:
        return facts
    for stream in facts.streams:
        if wish == str(stream.index + 1) or wish.casefold() == stream.language.casefold():
            return replace(facts, sound_index=stream.index)
    there = ", ".join(stream.language or f"number {stream.index + 1}" for stream in facts.streams)
    text = f"There is no sound '{wish}' here, only {there}; the first is taken."
    return _faulty(facts, FaultCode.OTHER_SOUND, text)


def _stream(number: int, sound: Any) -> SoundStream:
    context = sound.codec_context
    return SoundStream(
        index=number,
        codec=codec_for(context.name).key if context is not None else "",
        language=sound.language or "",
        title=sound.metadata.get("title", "") or "",
        sample_rate=(context.sample_rate or 0) if context is not None else 0,
        channels=(context.channels or 0) if context is not None else 0,
    )


_LONGEST_LEAD_SECONDS = 3600
"""A longer one is a mistake of the file and not silence that anybody wants (our own choice)."""


def _with_lead(facts: Facts, sound: Any, pictures: Any) -> Facts:
    """A film's sound that begins after its pictures keeps its place by silence before it."""
    if sound.start_time is None or pictures.start_time is None:
        return facts
    late = float(sound.start_time * sound.time_base - pictures.start_time * pictures.time_base)
    lead = round(late * facts.sample_rate)
    if not 0 < late < _LONGEST_LEAD_SECONDS or not lead:
        return facts
    return replace(facts, lead_samples=lead, samples=facts.samples + lead)


def _is_cover(stream: Any) -> bool:
    return stream.codec_context is not None and stream.codec_context.name in ("png", "mjpeg", "bmp", "gif")


def _is_protected(stream: Any) -> bool:
    if stream.codec_context is None:
        return False
    try:
        return stream.codec_context.codec_tag in ("drms", "enca")
    except UnicodeDecodeError:
        # A tag of other than ASCII signs is a number, as in RIFF.
        return False


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
        delay_samples=length.delay_samples,
        padding_samples=length.padding_samples,
    )
    if not length.samples and length.whole:
        return _faulty(facts, FaultCode.NO_SOUND, "The file has the form of a sound file, but no sound in it.")
    if not length.whole:
        here, stated = _clock(seconds), _clock(length.stated / facts.sample_rate) if length.stated else ""
        what = f"{here} of {stated} can be read" if stated else f"{here} can be read"
        if here == stated and length.samples:
            what = "its last moment is missing"
        return _faulty(facts, FaultCode.CUT_SHORT, f"Cut short: {what}. Copy it again from where it came.")
    if length.damaged_packets:
        text = f"{length.damaged_packets} damaged frames. The rest can be used; copy it again from where it came."
        return _faulty(facts, FaultCode.DAMAGED, text)
    return facts


def _clock(seconds: float) -> str:
    whole = int(seconds)
    return f"{whole // 60}:{whole % 60:02d}"


def _tags(path: Path, container: str, codec: str, fallback: Mapping[str, str]) -> tuple[TagSet, tuple[Fault, ...]]:
    try:
        tags = read_tags(path, container=container, codec=codec, fallback=fallback)
        return tags.without_pictures(), ()
    except TagError as error:
        return EMPTY_TAGS, (Fault(code=FaultCode.TAGS_UNREADABLE, text=f"{error} The sound is not affected."),)


def _judge_name(facts: Facts, suffix: str) -> Facts:
    """Note a name ending that belongs to another kind of file."""
    container = CONTAINER_BY_KEY.get(facts.container)
    if container is None or not facts.codec or suffix.lower() in container.suffixes:
        return facts
    named = f"named {suffix}" if suffix else "has no name ending"
    text = f"The file is {named} but holds {container.label}. Some players go by the name; results get the right one."
    return _faulty(facts, FaultCode.WRONG_EXTENSION, text)
