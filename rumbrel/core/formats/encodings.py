"""The encodings Rumbrel writes: one row each, with what it can be asked for and who writes it."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from rumbrel.core.errors import EncodeError
from rumbrel.core.sound.shape import Block, SoundShape

from .aac import open_aac
from .framed import open_alac, open_flac, open_opus, open_wavpack
from .mp3 import MP3_BITRATES_KBPS, open_mp3
from .plain import open_aiff, open_wav, open_wav_alaw, open_wav_ulaw
from .settings import EncoderSettings
from .vorbis import open_vorbis

__all__ = ["ENCODINGS", "Encoder", "Encoding", "encoding_for"]


class Encoder(Protocol):
    """Writes blocks of one shape into a file that the caller named and will move into place."""

    def write(self, block: Block) -> None: ...

    def finish(self) -> None:
        """Write what is held back and close. The file is whole only after this."""
        ...

    def abandon(self) -> None:
        """Close without finishing; the caller removes the file."""
        ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Encoding:
    """One way to write sound.

    depths are the integer depths it holds, the first is the customary one; empty means that it
    takes floating point and has no depth. rates and bitrates_kbps are None where any will do.
    keeps_length says that a decoder honouring the headers returns exactly the samples put in.
    """

    key: str
    label: str
    container: str
    codec: str
    suffix: str
    lossless: bool
    depths: tuple[int, ...]
    rates: tuple[int, ...] | None
    max_channels: int
    bitrates_kbps: tuple[int, ...] | None
    modes: tuple[str, ...]
    keeps_length: bool
    open: Callable[[Path, SoundShape, EncoderSettings], Encoder]

    def check_request(self, shape: SoundShape, settings: EncoderSettings) -> None:
        """Raise EncodeError naming the first thing this encoding cannot do."""
        if self.rates is not None and shape.sample_rate not in self.rates:
            raise EncodeError(f"{self.label} has no sample rate of {shape.sample_rate} Hz.")
        if shape.channels > self.max_channels:
            raise EncodeError(f"{self.label} holds at most {self.max_channels} channels, not {shape.channels}.")
        if self.depths and shape.depth_bits not in self.depths:
            raise EncodeError(f"{self.label} holds {_either(self.depths)} bit samples, not {shape.depth_bits}.")
        if settings.mode is not None and settings.mode not in self.modes:
            raise EncodeError(f"{self.label} has no {settings.mode} bitrate; it has {_either(self.modes)}.")
        if self.bitrates_kbps and settings.bitrate_kbps is not None and settings.mode != "variable":
            if settings.bitrate_kbps not in self.bitrates_kbps:
                raise EncodeError(
                    f"{self.label} has no bitrate of {settings.bitrate_kbps} kbit/s; it has {_either(self.bitrates_kbps)}."
                )
        if settings.joint_stereo is not None and self.codec != "mp3":
            raise EncodeError(f"{self.label} has no choice of joint stereo.")
        if settings.joint_stereo and (shape.channels != 2 or (settings.bitrate_kbps or 192) >= 160):
            raise EncodeError(f"{self.label} is written in joint stereo only for 2 channels below 160 kbit/s.")


def _either(values: tuple[object, ...]) -> str:
    words = [str(value) for value in values]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


_AAC_RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 64000, 88200, 96000)
_MP3_RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000)

ENCODINGS: tuple[Encoding, ...] = (
    Encoding(
        key="wav", label="WAV", container="wav", codec="pcm", suffix=".wav", lossless=True, depths=(16, 24, 32, 8),
        rates=None, max_channels=64, bitrates_kbps=None, modes=("constant",), keeps_length=True, open=open_wav,
    ),
    Encoding(
        key="aiff", label="AIFF", container="aiff", codec="pcm", suffix=".aiff", lossless=True, depths=(16, 24, 32, 8),
        rates=None, max_channels=64, bitrates_kbps=None, modes=("constant",), keeps_length=True, open=open_aiff,
    ),
    Encoding(
        key="wav-mu-law", label="WAV mu-law", container="wav", codec="mu-law", suffix=".wav", lossless=False,
        depths=(16,), rates=None, max_channels=2, bitrates_kbps=None, modes=("constant",), keeps_length=True,
        open=open_wav_ulaw,
    ),
    Encoding(
        key="wav-a-law", label="WAV A-law", container="wav", codec="a-law", suffix=".wav", lossless=False,
        depths=(16,), rates=None, max_channels=2, bitrates_kbps=None, modes=("constant",), keeps_length=True,
        open=open_wav_alaw,
    ),
    Encoding(
        key="flac", label="FLAC", container="flac", codec="flac", suffix=".flac", lossless=True, depths=(16, 24),
        rates=None, max_channels=8, bitrates_kbps=None, modes=("variable",), keeps_length=True, open=open_flac,
    ),
    Encoding(
        key="alac", label="ALAC in M4A", container="m4a", codec="alac", suffix=".m4a", lossless=True, depths=(16, 24),
        rates=None, max_channels=8, bitrates_kbps=None, modes=("variable",), keeps_length=True, open=open_alac,
    ),
    Encoding(
        key="wavpack", label="WavPack", container="wavpack", codec="wavpack", suffix=".wv", lossless=True,
        depths=(16, 32), rates=None, max_channels=8, bitrates_kbps=None, modes=("variable",), keeps_length=True,
        open=open_wavpack,
    ),
    Encoding(
        key="mp3", label="MP3", container="mp3", codec="mp3", suffix=".mp3", lossless=False, depths=(16,),
        rates=_MP3_RATES, max_channels=2, bitrates_kbps=MP3_BITRATES_KBPS, modes=("constant", "average", "variable"),
        keeps_length=True, open=open_mp3,
    ),
    Encoding(
        key="aac", label="AAC in M4A", container="m4a", codec="aac", suffix=".m4a", lossless=False, depths=(),
        rates=_AAC_RATES, max_channels=8, bitrates_kbps=None, modes=("average",), keeps_length=True, open=open_aac,
    ),
    Encoding(
        key="opus", label="Opus", container="ogg", codec="opus", suffix=".opus", lossless=False, depths=(),
        rates=(48000,), max_channels=8, bitrates_kbps=None, modes=("variable", "constant"), keeps_length=True,
        open=open_opus,
    ),
    Encoding(
        key="vorbis", label="Vorbis", container="ogg", codec="vorbis", suffix=".ogg", lossless=False, depths=(),
        rates=None, max_channels=8, bitrates_kbps=None, modes=("variable",), keeps_length=True, open=open_vorbis,
    ),
)  # fmt: skip

_BY_KEY = {row.key: row for row in ENCODINGS}


def encoding_for(key: str) -> Encoding:
    """The row of that key. Raises EncodeError naming the ones there are."""
    if key not in _BY_KEY:
        raise EncodeError(f"There is no encoding '{key}'; there is {_either(tuple(_BY_KEY))}.")
    return _BY_KEY[key]
