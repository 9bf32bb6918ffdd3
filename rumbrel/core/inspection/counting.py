"""Lengths by decoding: what no header states."""

from pathlib import Path
from typing import Any

from rumbrel.core.errors import DecodeError
from rumbrel.core.formats.table import codec_for, container_for
from rumbrel.core.sound.decoding import StreamChoice, open_sound

from .facts import Length

__all__ = ["counted_length"]


def counted_length(path: Path, stream: Any) -> Length:
    """Decode everything as a conversion would, and count: silence stands where a packet is damaged."""
    sounds = [sound.index for sound in stream.container.streams.audio]
    choice = StreamChoice(
        container=container_for(stream.container.format.name).key,
        depth_bits=0,
        sound_index=sounds.index(stream.index),
        codec=codec_for(stream.codec_context.name).key,
        channels=stream.codec_context.channels or 0,
    )
    samples = 0
    try:
        with open_sound(path, choice) as sound:
            for length in sound.lengths():
                samples += length
            return Length(samples=samples, damaged_packets=sound.damaged_packets)
    except DecodeError:
        # Up to here it could be read: the count stands, and the header's promise shows the loss.
        return Length(samples=samples, whole=False)
