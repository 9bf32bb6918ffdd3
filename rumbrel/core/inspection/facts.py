"""The values that inspection yields."""

from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from rumbrel.core.formats.table import codec_row, container_row
from rumbrel.core.sound.decoding import BareSound, Link, StreamChoice, Stretch
from rumbrel.core.tags import EMPTY_TAGS, TagSet

__all__ = ["FACTS_VERSION", "Facts", "Length", "Fault", "FaultCode", "SoundStream"]


FACTS_VERSION = 4
"""Grows when inspection finds more or otherwise, so that kept facts of an older one are read again."""


class FaultCode(StrEnum):
    """Every fault inspection can name."""

    MISSING = "missing"
    NOT_PRESENT = "not-present"
    EMPTY = "empty"
    UNREADABLE = "unreadable"
    NOT_INSPECTED = "not-inspected"
    """For a reason outside the file: never kept."""
    NO_SOUND = "no-sound"
    PROTECTED = "protected"
    READERS_DIFFER = "readers-differ"
    CUT_SHORT = "cut-short"
    DAMAGED = "damaged"
    WRONG_EXTENSION = "wrong-extension"
    TAGS_UNREADABLE = "tags-unreadable"
    OTHER_PART = "other-part"
    UNFINISHED = "unfinished"
    DOUBTFUL_LOSSLESS = "doubtful-lossless"
    OTHER_SOUND = "other-sound"
    BEYOND_FULL_SCALE = "beyond-full-scale"


_HARMLESS = frozenset(
    {
        FaultCode.WRONG_EXTENSION,
        FaultCode.TAGS_UNREADABLE,
        FaultCode.DOUBTFUL_LOSSLESS,
        FaultCode.OTHER_SOUND,
        FaultCode.UNFINISHED,
        FaultCode.BEYOND_FULL_SCALE,
    }
)
_ONE_BIT = frozenset({"dsd", "dst"})
_ONE_BIT_SAMPLES = 8
_FLOATING = frozenset({"pcm-float", "wavpack"})
_SALVAGEABLE = frozenset({FaultCode.CUT_SHORT, FaultCode.DAMAGED, FaultCode.OTHER_PART})


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """A fault with a sentence that says what it is and what to do."""

    code: FaultCode
    text: str

    @property
    def harmless(self) -> bool:
        """True when all of the sound is there nevertheless."""
        return self.code in _HARMLESS

    @property
    def salvageable(self) -> bool:
        """True when part of the sound is lost and the rest can be used."""
        return self.code in _SALVAGEABLE


@dataclass(frozen=True, slots=True, kw_only=True)
class SoundStream:
    """One of the sounds of a file. language is as the file states it, "" where it is silent."""

    index: int
    codec: str
    language: str
    title: str
    sample_rate: int
    channels: int

    def as_record(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__slots__}


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What a file holds. samples counts sampling instants; bitrate is in bits/s of the sound alone.

    A file without usable sound has container "" or codec "" and says why in faults. bit_depth is
    None where the coding has none (lossy codings and floating point). Of several sounds all this is
    about the one at sound_index. valid_bits are those of a sample that the header says are used, stored_bits those that it
    takes in the file, each None where it is bit_depth. speakers are the channels' names where the file states them. lead_samples is the silence
    that goes before the sound so that it stays with its pictures; samples counts it. Delay and
    padding are the encoder's, in samples, None where the file does not state them. links are the streams
    that follow each other in the file, where there are several; stretch is the part of the file that all this is about,
    None for the whole, of which size_bytes, modified_ns and content_mark always are; one_of_sounds says that each of the
    file's sounds is a track of its own, and this is one; bare is where the samples are, where the header
    states their length wrongly. content_mark knows the
    file again under another name (see files.content_mark); "" where it could not be read.
    """

    path: str
    size_bytes: int = 0
    modified_ns: int = 0
    content_mark: str = ""
    container: str = ""
    codec: str = ""
    lossless: bool = False
    sample_rate: int = 0
    bit_depth: int | None = None
    valid_bits: int | None = None
    stored_bits: int | None = None
    channels: int = 0
    speakers: tuple[str, ...] = ()
    samples: int = 0
    stated_samples: int | None = None
    bitrate_bps: int = 0
    bitrate_mode: str = ""
    channel_mode: str = ""
    sound_streams: int = 0
    sound_index: int = 0
    streams: tuple[SoundStream, ...] = ()
    lead_samples: int = 0
    links: tuple[Link, ...] = ()
    bare: BareSound | None = None
    stretch: Stretch | None = None
    one_of_sounds: bool = False
    delay_samples: int | None = None
    padding_samples: int | None = None
    has_video: bool = False
    tags: TagSet = EMPTY_TAGS
    faults: tuple[Fault, ...] = ()

    @property
    def coded_rate(self) -> int:
        """Hz, as the sound is kept: one bit sound is decoded to an eighth of its rate."""
        return self.sample_rate * _ONE_BIT_SAMPLES if self.codec in _ONE_BIT else self.sample_rate

    @property
    def depth_text(self) -> str:
        """The depth as it is kept: "16 bit", "20 in 24 bit", "1 bit"; "" where the coding has none."""
        if self.codec in _ONE_BIT:
            return "1 bit"
        if self.bit_depth is None:
            return ""
        used, taken = self.valid_bits or self.bit_depth, self.stored_bits or self.bit_depth
        return f"{used} in {taken} bit" if used < taken else f"{used} bit"

    @property
    def inspected(self) -> bool:
        """False where something outside the file kept it from being read: then all this says nothing of the file."""
        return all(fault.code is not FaultCode.NOT_INSPECTED for fault in self.faults)

    @property
    def ok(self) -> bool:
        """True when all of the sound can be used."""
        return all(fault.harmless for fault in self.faults)

    @property
    def usable(self) -> bool:
        """True when some of the sound can be used."""
        return bool(self.samples) and all(p.harmless or p.salvageable for p in self.faults)

    @property
    def is_floating(self) -> bool:
        """Whether the samples are floating point, whose values may lie beyond full scale and be kept there."""
        return self.codec in _FLOATING and self.bit_depth is None

    @property
    def duration_seconds(self) -> float:
        return self.samples / self.sample_rate if self.sample_rate else 0.0

    @property
    def part(self) -> str:
        """Behind the path, what tells a part of a file from the others; "" for a whole one."""
        if self.stretch:
            return f"#{self.stretch.start_sample}-{self.stretch.end_sample}"
        return f"#sound-{self.sound_index + 1}" if self.one_of_sounds else ""

    @property
    def is_part(self) -> bool:
        return self.stretch is not None or self.one_of_sounds

    @property
    def key(self) -> str:
        """What tells the sound from any other: the path, and which part of it."""
        return f"{self.path}{self.part}"

    @property
    def sound_bytes(self) -> int:
        """About how many of the file's bytes are this part's."""
        if self.one_of_sounds:
            return min(self.size_bytes, round(self.bitrate_bps / 8 * self.duration_seconds))
        if self.stretch is None:
            return self.size_bytes
        return round(self.size_bytes * self.stretch.samples / max(1, self.stretch.whole_samples))

    @property
    def sound_wish(self) -> str:
        """What inspecting the file again has to be asked for, so that it is about the same of its sounds."""
        return str(self.sound_index + 1) if self.sound_streams > 1 else ""

    def choice(self) -> StreamChoice:
        """How to open this file's sound: cut to its length where decoders do not see to that themselves."""
        states_length = (
            (self.container == "m4a" and not self.lossless)
            or container_row(self.container).cuts_end
            or codec_row(self.codec).cuts_end
        )
        return StreamChoice(
            container=self.container,
            depth_bits=self.bit_depth or 0,
            sound_index=self.sound_index,
            end_sample=self.samples if states_length and self.stretch is None else None,
            lead_samples=self.lead_samples,
            codec=self.codec,
            channels=self.channels,
            speakers=self.speakers,
            links=self.links,
            bare=self.bare,
            stretch=self.stretch,
        )

    def as_record(self) -> dict[str, Any]:
        """The fields of `inspect --json`, in its order."""
        return {
            "path": self.path,
            "ok": self.ok,
            "container": self.container,
            "codec": self.codec,
            "lossless": self.lossless,
            "sample_rate": self.sample_rate,
            "bit_depth": self.bit_depth,
            "valid_bits": self.valid_bits,
            "stored_bits": self.stored_bits,
            "coded_rate": self.coded_rate,
            "channels": self.channels,
            "speakers": list(self.speakers),
            "samples": self.samples,
            "stated_samples": self.stated_samples,
            "duration": round(self.duration_seconds, 6),
            "bitrate": self.bitrate_bps,
            "bitrate_mode": self.bitrate_mode,
            "size": self.size_bytes,
            "channel_mode": self.channel_mode,
            "sound_streams": self.sound_streams,
            "sound_index": self.sound_index,
            "streams": [stream.as_record() for stream in self.streams],
            "encoder_delay": self.delay_samples,
            "encoder_padding": self.padding_samples,
            "tags": self.tags.as_text(),
            "covers": [{"media_type": c.media_type, "kind": c.kind, "size": c.size_bytes} for c in self.tags.covers],
            "chapters": [
                {"start": c.start_seconds, "end": c.end_seconds, "title": c.title} for c in self.tags.chapters
            ],
            "faults": [{"code": str(fault.code), "text": fault.text} for fault in self.faults],
        }


@dataclass(frozen=True, slots=True, kw_only=True)
class Length:
    """samples can be read; stated is what the header promises, None where it promises nothing.

    whole is False when bytes that the structure promises are missing from the file. damaged_packets
    were found where the sound had to be decoded to be counted.
    """

    samples: int
    stated: int | None = None
    whole: bool = True
    bitrate_bps: int | None = None
    bitrate_mode: str = ""
    channel_mode: str = ""
    delay_samples: int | None = None
    padding_samples: int | None = None
    damaged_packets: int = 0
