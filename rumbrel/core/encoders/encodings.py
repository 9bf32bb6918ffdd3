"""The encodings Rumbrel writes: one row each, with what it can be asked for and who writes it."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from rumbrel.core.errors import EncodeError
from rumbrel.core.sound.likeness import Coding
from rumbrel.core.sound.shape import Block, SoundShape

from .aac import open_aac, open_adts
from .framed import open_alac, open_g722, open_opus, open_wavpack, open_wma
from .mp3 import MP3_BITRATES_KBPS, default_bitrate_kbps, open_mp3
from .plain import open_coded, open_companded, open_flac, open_float, open_pcm, open_vox
from .settings import EncoderSettings
from .vorbis import open_vorbis

__all__ = ["ENCODINGS", "Encoder", "Encoding", "coding_of", "encoding_for"]


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
    takes floating point and has no depth. rates and bitrates_kbps are None where any will do (rates
    up to highest_rate where the encoder has a limit: libFLAC's and libvorbis's are measured), and
    bitrates_kbps is empty where the rate and depth settle the bitrate. A decoder that honours the
    headers returns the samples put in, and at most slack_samples of silence or filter tail more; leading_samples
    of these come before the first (measured).
    without_channels are counts below max_channels whose speakers the container names otherwise than
    WAV does. efforts is the range of the encoder's steps, None where it has none. coded_bits is the number
    of bits of a coded sample where that is fixed. largest_bytes is what the container can state, and larger the encoding
    that takes its place beyond that, "" where none does. floating is the encoding that keeps floating point as it
    is, "" where none does.
    """

    key: str
    label: str
    container: str
    codec: str
    suffix: str
    lossless: bool
    open: Callable[[Path, SoundShape, EncoderSettings], Encoder]
    depths: tuple[int, ...] = ()
    rates: tuple[int, ...] | None = None
    highest_rate: int | None = None
    max_channels: int = 8
    without_channels: tuple[int, ...] = ()
    bitrates_kbps: tuple[int, ...] | None = ()
    modes: tuple[str, ...] = ("constant",)
    has_quality: bool = False
    efforts: tuple[int, int] | None = None
    slack_samples: int = 0
    leading_samples: int = 0
    coded_bits: int | None = None
    largest_bytes: int | None = None
    larger: str = ""
    floating: str = ""

    @property
    def read_container(self) -> str:
        """The container that its files are known by when they are read: RF64 is WAV with sizes of its own."""
        return "wav" if self.container == "rf64" else self.container

    @property
    def channel_counts(self) -> tuple[int, ...]:
        return tuple(count for count in range(1, self.max_channels + 1) if count not in self.without_channels)

    def check_request(self, shape: SoundShape, settings: EncoderSettings) -> None:
        """Raise EncodeError naming the first thing this encoding cannot do."""
        self.check_settings(settings)
        if self.rates is not None and shape.sample_rate not in self.rates:
            raise EncodeError(f"{self.label} has no sample rate of {shape.sample_rate} Hz.")
        if self.highest_rate is not None and shape.sample_rate > self.highest_rate:
            raise EncodeError(f"{self.label} is written at up to {self.highest_rate} Hz, not at {shape.sample_rate}.")
        if shape.channels > self.max_channels:
            raise EncodeError(f"{self.label} holds at most {self.max_channels} channels, not {shape.channels}.")
        if shape.channels in self.without_channels:
            raise EncodeError(f"{self.label} has no place for {shape.channels} channels in our order.")
        if self.depths and shape.depth_bits not in self.depths:
            raise EncodeError(f"{self.label} holds {_either(self.depths)} bit samples, not {shape.depth_bits}.")
        if settings.joint_stereo and (shape.channels != 2 or (settings.bitrate_kbps or 192) >= 160):
            raise EncodeError(f"{self.label} is written in joint stereo only for 2 channels below 160 kbit/s.")
        if self.codec == "mp3" and settings.bitrate_kbps is not None:
            _check_mp3_bitrate(shape.sample_rate, settings.bitrate_kbps)

    def check_settings(self, settings: EncoderSettings) -> None:
        """Raise EncodeError for an option this encoder does not have: none is silently void."""
        if settings.mode is not None and settings.mode not in self.modes:
            raise EncodeError(f"{self.label} has no {settings.mode} bitrate; it has {_either(self.modes)}.")
        if settings.bitrate_kbps is not None:
            if self.bitrates_kbps == ():
                raise EncodeError(f"{self.label} has no choice of bitrate: rate and depth settle it.")
            if settings.mode == "variable" and self.has_quality:
                raise EncodeError(f"{self.label} with a variable bitrate is led by quality, not by a bitrate.")
            if self.bitrates_kbps and settings.bitrate_kbps not in self.bitrates_kbps:
                raise EncodeError(
                    f"{self.label} has no bitrate of {settings.bitrate_kbps} kbit/s; it has {_either(self.bitrates_kbps)}."
                )
        if settings.quality is not None and not (self.has_quality and settings.mode in (None, "variable")):
            raise EncodeError(f"{self.label} has no quality to choose, or only with a variable bitrate.")
        if settings.effort is not None:
            if self.efforts is None:
                raise EncodeError(f"{self.label} has no effort to choose.")
            if not self.efforts[0] <= settings.effort <= self.efforts[1]:
                low, high = self.efforts
                raise EncodeError(f"{self.label} has no effort {settings.effort}; it has {low} to {high}.")
        if settings.joint_stereo is not None and self.codec != "mp3":
            raise EncodeError(f"{self.label} has no choice of joint stereo.")


def _check_mp3_bitrate(sample_rate: int, bitrate_kbps: int) -> None:
    """MPEG-1 holds 32 kbit/s and more, MPEG-2 at half its rates up to 160, MPEG-2.5 up to 64 (from memory)."""
    low, high = (32, 320) if sample_rate >= 32_000 else (8, 160) if sample_rate >= 16_000 else (8, 64)
    if not low <= bitrate_kbps <= high or (bitrate_kbps == 144 and sample_rate >= 32_000):
        raise EncodeError(f"MP3 at {sample_rate / 1000:g} kHz has no bitrate of {bitrate_kbps} kbit/s.")


def _either(values: tuple[object, ...]) -> str:
    words = [str(value) for value in values]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


_AAC_RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000, 64000, 88200, 96000)
_MP3_RATES = (8000, 11025, 12000, 16000, 22050, 24000, 32000, 44100, 48000)
_FOUR_GIB = 2**32 - 1
"""RIFF and AIFF state sizes in 32 bits."""


def _pcm(
    key: str, label: str, suffix: str, sndfile: str, largest_bytes: int | None = None, larger: str = ""
) -> tuple[Encoding, Encoding]:
    """Integer and floating point rows of a plain container."""
    integers = Encoding(
        key=key, label=label, container=key, codec="pcm", suffix=suffix, lossless=True, depths=(16, 24, 32, 8),
        max_channels=64, largest_bytes=largest_bytes, larger=larger, floating=f"{key}-float", open=open_pcm(sndfile),
    )  # fmt: skip
    floats = Encoding(
        key=f"{key}-float", label=f"{label} float", container=key, codec="pcm-float", suffix=suffix, lossless=True,
        max_channels=64, coded_bits=32, largest_bytes=largest_bytes, larger=f"{larger}-float" if larger else "",
        open=open_float(sndfile),
    )  # fmt: skip
    return integers, floats


ENCODINGS: tuple[Encoding, ...] = (
    *_pcm("wav", "WAV", ".wav", "WAV", _FOUR_GIB, larger="rf64"),
    *_pcm("rf64", "RF64", ".wav", "RF64"),
    *_pcm("w64", "W64", ".w64", "W64"),
    *_pcm("aiff", "AIFF", ".aiff", "AIFF", _FOUR_GIB),
    *_pcm("caf", "CAF", ".caf", "CAF"),
    *_pcm("au", "AU", ".au", "AU", _FOUR_GIB),
    Encoding(
        key="wav-mu-law", label="WAV mu-law", container="wav", codec="mu-law", suffix=".wav", lossless=False,
        depths=(16,), max_channels=2, coded_bits=8, largest_bytes=_FOUR_GIB, open=open_companded("WAV", "ULAW"),
    ),
    Encoding(
        key="wav-a-law", label="WAV A-law", container="wav", codec="a-law", suffix=".wav", lossless=False,
        depths=(16,), max_channels=2, coded_bits=8, largest_bytes=_FOUR_GIB, open=open_companded("WAV", "ALAW"),
    ),
    Encoding(
        key="wav-gsm", label="WAV GSM", container="wav", codec="gsm", suffix=".wav", lossless=False, depths=(16,),
        rates=(8000,), max_channels=1, slack_samples=640, largest_bytes=_FOUR_GIB, open=open_coded("WAV", "GSM610"),
    ),
    Encoding(
        key="wav-ima-adpcm", label="WAV IMA ADPCM", container="wav", codec="ima-adpcm", suffix=".wav",
        lossless=False, depths=(16,), max_channels=2, coded_bits=4, slack_samples=4096, largest_bytes=_FOUR_GIB,
        open=open_coded("WAV", "IMA_ADPCM"),
    ),
    Encoding(
        key="wav-g722", label="WAV G.722", container="wav", codec="g722", suffix=".wav", lossless=False, depths=(16,),
        rates=(16000,), max_channels=1, coded_bits=4, slack_samples=2, leading_samples=22, largest_bytes=_FOUR_GIB,
        open=open_g722,
    ),
    Encoding(
        key="vox", label="VOX", container="vox", codec="vox-adpcm", suffix=".vox", lossless=False, depths=(16,),
        rates=(8000,), max_channels=1, coded_bits=4, slack_samples=1, open=open_vox,
    ),
    Encoding(
        key="flac", label="FLAC", container="flac", codec="flac", suffix=".flac", lossless=True, depths=(16, 24),
        modes=("variable",), efforts=(0, 8), highest_rate=655_350, open=open_flac,
    ),
    Encoding(
        key="alac", label="ALAC in M4A", container="m4a", codec="alac", suffix=".m4a", lossless=True, depths=(16, 24),
        max_channels=6, without_channels=(4,), modes=("variable",), open=open_alac,
    ),
    Encoding(
        key="wavpack", label="WavPack", container="wavpack", codec="wavpack", suffix=".wv", lossless=True,
        depths=(16, 32), modes=("variable",), efforts=(0, 8), floating="wavpack-float", open=open_wavpack,
    ),
    Encoding(
        key="wavpack-float", label="WavPack float", container="wavpack", codec="wavpack", suffix=".wv", lossless=True,
        modes=("variable",), efforts=(0, 8), open=open_wavpack,
    ),
    Encoding(
        key="mp3", label="MP3", container="mp3", codec="mp3", suffix=".mp3", lossless=False, depths=(16,),
        rates=_MP3_RATES, max_channels=2, bitrates_kbps=MP3_BITRATES_KBPS, modes=("constant", "average", "variable"),
        has_quality=True, efforts=(0, 9), open=open_mp3,
    ),
    Encoding(
        key="aac", label="AAC in M4A", container="m4a", codec="aac", suffix=".m4a", lossless=False, rates=_AAC_RATES,
        bitrates_kbps=None, modes=("average",), efforts=(0, 1), open=open_aac,
    ),
    Encoding(
        key="aac-adts", label="AAC in ADTS", container="adts", codec="aac", suffix=".aac", lossless=False,
        rates=_AAC_RATES, bitrates_kbps=None, modes=("average",), efforts=(0, 1), slack_samples=4096,
        leading_samples=1024, open=open_adts,
    ),
    Encoding(
        key="opus", label="Opus", container="ogg", codec="opus", suffix=".opus", lossless=False, rates=(48000,),
        bitrates_kbps=None, modes=("variable", "constant"), efforts=(0, 10), open=open_opus,
    ),
    Encoding(
        key="vorbis", label="Vorbis", container="ogg", codec="vorbis", suffix=".ogg", lossless=False,
        modes=("variable",), has_quality=True, highest_rate=200_000, open=open_vorbis,
    ),
    Encoding(
        key="wma", label="WMA", container="asf", codec="wma", suffix=".wma", lossless=False,
        rates=(22050, 32000, 44100), max_channels=2, bitrates_kbps=(32, 48, 64, 96, 128, 160, 192),
        slack_samples=8192, open=open_wma,
    ),
)  # fmt: skip

_BY_KEY = {row.key: row for row in ENCODINGS}


def encoding_for(key: str) -> Encoding:
    """The row of that key. Raises EncodeError naming the ones there are."""
    if key not in _BY_KEY:
        raise EncodeError(f"There is no encoding '{key}'; there is {_either(tuple(_BY_KEY))}.")
    return _BY_KEY[key]


_KBPS_A_CHANNEL = {"aac": 96, "opus": 64, "wma": 64}
_USUAL_QUALITY = {"mp3": 0.6, "vorbis": 0.5}


def coding_of(encoding: Encoding, shape: SoundShape, settings: EncoderSettings) -> Coding:
    """What is known of an encoder's results is looked up by this: the settings with what it chooses itself filled in."""
    key, mode, amount = encoding.codec if encoding.codec == "aac" else encoding.key, settings.mode or "", 0.0
    if encoding.codec == "mp3":
        mode = settings.mode or "constant"
    if encoding.has_quality and (mode == "variable" or encoding.codec != "mp3"):
        amount = 100 * (_USUAL_QUALITY[encoding.codec] if settings.quality is None else settings.quality)
    elif encoding.bitrates_kbps != ():
        usual = _KBPS_A_CHANNEL.get(encoding.codec, 0) * shape.channels or default_bitrate_kbps(shape.sample_rate)
        amount = settings.bitrate_kbps or usual
    return Coding(
        encoding=key, sample_rate=shape.sample_rate, channels=shape.channels, amount=amount,
        mode="" if encoding.codec in ("aac", "wma", "vorbis") or (encoding.codec == "opus" and mode != "constant") else mode,
    )  # fmt: skip
