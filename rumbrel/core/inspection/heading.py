"""What a file's header states."""

from dataclasses import dataclass

from rumbrel.core.sound.decoding import BareSound

from .facts import Fault, Length

__all__ = ["Heading"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Heading:
    """What the header states of the one sound in the file. frame_bytes are those of all channels' samples of one
    instant, 0 where that means nothing. valid_bits and stored_bits as in Facts."""

    container: str
    codec: str
    sample_rate: int
    channels: int
    bit_depth: int | None
    length: Length
    speakers: tuple[str, ...] = ()
    bare: BareSound | None = None
    fault: Fault | None = None
    frame_bytes: int = 0
    valid_bits: int | None = None
    stored_bits: int | None = None
