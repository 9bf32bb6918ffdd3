"""Which mutagen class opens which container: chosen by content, since names can be wrong."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import mutagen.aac
import mutagen.aiff
import mutagen.asf
import mutagen.dsdiff
import mutagen.dsf
import mutagen.flac
import mutagen.monkeysaudio
import mutagen.mp3
import mutagen.mp4
import mutagen.musepack
import mutagen.oggopus
import mutagen.oggspeex
import mutagen.oggvorbis
import mutagen.trueaudio
import mutagen.wavpack

__all__ = ["Opener", "opener_for"]

Opener = Callable[[Path], Any]

_BY_CONTAINER: dict[str, Opener] = {
    "aiff": mutagen.aiff.AIFF,
    "mp3": mutagen.mp3.MP3,
    "m4a": mutagen.mp4.MP4,
    "flac": mutagen.flac.FLAC,
    "wavpack": mutagen.wavpack.WavPack,
    "ape": mutagen.monkeysaudio.MonkeysAudio,
    "musepack": mutagen.musepack.Musepack,
    "tta": mutagen.trueaudio.TrueAudio,
    "asf": mutagen.asf.ASF,
    "dsf": mutagen.dsf.DSF,
    "dff": mutagen.dsdiff.DSDIFF,
}
_OGG: dict[str, Opener] = {
    "opus": mutagen.oggopus.OggOpus,
    "vorbis": mutagen.oggvorbis.OggVorbis,
    "speex": mutagen.oggspeex.OggSpeex,
}


def opener_for(container: str, codec: str) -> Opener | None:
    """The class for a container and codec key, or None where mutagen has no reader."""
    return _OGG.get(codec) if container == "ogg" else _BY_CONTAINER.get(container)
