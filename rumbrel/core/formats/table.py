"""The single table of containers and codecs: what FFmpeg calls them, what we call them, their endings."""

from dataclasses import dataclass

__all__ = [
    "CODECS",
    "CODEC_BY_KEY",
    "CONTAINERS",
    "CONTAINER_BY_KEY",
    "Codec",
    "Container",
    "SOUND_SUFFIXES",
    "codec_for",
    "container_for",
    "format_label",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Container:
    """A file structure. suffixes[0] is the ending we write; the others are right for it as well."""

    key: str
    label: str
    suffixes: tuple[str, ...]
    ffmpeg_names: tuple[str, ...]
    media_type: str
    video: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Codec:
    """A coding of sound. depth_bits is the depth a name fixes, None where the stream tells."""

    key: str
    label: str
    lossless: bool
    ffmpeg_names: tuple[str, ...]


CONTAINERS: tuple[Container, ...] = (
    Container(key="wav", label="WAV", suffixes=(".wav", ".wave"), ffmpeg_names=("wav",), media_type="audio/wav"),
    Container(key="rf64", label="RF64", suffixes=(".wav", ".rf64"), ffmpeg_names=(), media_type="audio/wav"),
    Container(key="w64", label="W64", suffixes=(".w64",), ffmpeg_names=("w64",), media_type="audio/x-w64"),
    Container(
        key="aiff", label="AIFF", suffixes=(".aiff", ".aif", ".aifc"), ffmpeg_names=("aiff",), media_type="audio/aiff"
    ),
    Container(key="caf", label="CAF", suffixes=(".caf",), ffmpeg_names=("caf",), media_type="audio/x-caf"),
    Container(key="au", label="AU", suffixes=(".au", ".snd"), ffmpeg_names=("au",), media_type="audio/basic"),
    Container(key="flac", label="FLAC", suffixes=(".flac",), ffmpeg_names=("flac",), media_type="audio/flac"),
    Container(
        key="m4a",
        label="M4A",
        suffixes=(".m4a", ".m4b", ".mp4", ".mov", ".m4v", ".3gp", ".3g2", ".m4r"),
        ffmpeg_names=("mov", "mp4", "m4a", "3gp", "3g2", "mj2"),
        media_type="audio/mp4",
    ),
    Container(key="mp3", label="MP3", suffixes=(".mp3", ".mp2"), ffmpeg_names=("mp3",), media_type="audio/mpeg"),
    Container(
        key="ogg",
        label="Ogg",
        suffixes=(".ogg", ".oga", ".opus", ".spx"),
        ffmpeg_names=("ogg",),
        media_type="audio/ogg",
    ),
    Container(key="adts", label="AAC", suffixes=(".aac",), ffmpeg_names=("aac",), media_type="audio/aac"),
    Container(
        key="matroska",
        label="Matroska",
        suffixes=(".mka", ".mkv", ".webm"),
        ffmpeg_names=("matroska", "webm"),
        media_type="audio/x-matroska",
    ),
    Container(key="avi", label="AVI", suffixes=(".avi",), ffmpeg_names=("avi",), media_type="video/x-msvideo"),
    Container(
        key="asf", label="ASF", suffixes=(".wma", ".asf", ".wmv"), ffmpeg_names=("asf",), media_type="audio/x-ms-wma"
    ),
    Container(key="wavpack", label="WavPack", suffixes=(".wv",), ffmpeg_names=("wv",), media_type="audio/x-wavpack"),
    Container(key="tta", label="TTA", suffixes=(".tta",), ffmpeg_names=("tta",), media_type="audio/x-tta"),
    Container(key="ape", label="Monkey's Audio", suffixes=(".ape",), ffmpeg_names=("ape",), media_type="audio/x-ape"),
    Container(key="tak", label="TAK", suffixes=(".tak",), ffmpeg_names=("tak",), media_type="audio/x-tak"),
    Container(
        key="musepack",
        label="Musepack",
        suffixes=(".mpc",),
        ffmpeg_names=("mpc", "mpc8"),
        media_type="audio/x-musepack",
    ),
    Container(
        key="ac3", label="AC-3", suffixes=(".ac3", ".eac3"), ffmpeg_names=("ac3", "eac3"), media_type="audio/ac3"
    ),
    Container(key="dts", label="DTS", suffixes=(".dts",), ffmpeg_names=("dts", "dtshd"), media_type="audio/vnd.dts"),
    Container(key="dsf", label="DSF", suffixes=(".dsf",), ffmpeg_names=("dsf",), media_type="audio/x-dsf"),
    Container(key="dff", label="DFF", suffixes=(".dff",), ffmpeg_names=("iff",), media_type="audio/x-dff"),
    Container(key="amr", label="AMR", suffixes=(".amr",), ffmpeg_names=("amr",), media_type="audio/amr"),
    Container(key="vox", label="VOX", suffixes=(".vox",), ffmpeg_names=(), media_type="application/octet-stream"),
    Container(
        key="ulaw",
        label="bare mu-law",
        suffixes=(".ulaw", ".ul"),
        ffmpeg_names=(),
        media_type="application/octet-stream",
    ),
    Container(
        key="alaw",
        label="bare A-law",
        suffixes=(".alaw", ".al"),
        ffmpeg_names=(),
        media_type="application/octet-stream",
    ),
    Container(key="gsm", label="GSM", suffixes=(".gsm",), ffmpeg_names=("gsm",), media_type="audio/x-gsm"),
    Container(
        key="mpegts", label="MPEG-TS", suffixes=(".ts", ".m2ts"), ffmpeg_names=("mpegts",), media_type="video/mp2t"
    ),
)

CODECS: tuple[Codec, ...] = (
    Codec(key="mu-law", label="mu-law", lossless=False, ffmpeg_names=("pcm_mulaw",)),
    Codec(key="a-law", label="A-law", lossless=False, ffmpeg_names=("pcm_alaw",)),
    Codec(
        key="pcm-float",
        label="PCM float",
        lossless=True,
        ffmpeg_names=("pcm_f32le", "pcm_f32be", "pcm_f64le", "pcm_f64be"),
    ),
    Codec(
        key="pcm",
        label="PCM",
        lossless=True,
        ffmpeg_names=tuple(
            f"pcm_{sign}{bits}{order}" for sign in "su" for bits in (16, 24, 32) for order in ("le", "be")
        )
        + ("pcm_u8", "pcm_s8", "pcm_s64le", "pcm_s64be"),
    ),
    Codec(key="flac", label="FLAC", lossless=True, ffmpeg_names=("flac",)),
    Codec(key="alac", label="ALAC", lossless=True, ffmpeg_names=("alac",)),
    Codec(key="wavpack", label="WavPack", lossless=True, ffmpeg_names=("wavpack",)),
    Codec(key="tta", label="TTA", lossless=True, ffmpeg_names=("tta",)),
    Codec(key="ape", label="Monkey's Audio", lossless=True, ffmpeg_names=("ape",)),
    Codec(key="tak", label="TAK", lossless=True, ffmpeg_names=("tak",)),
    Codec(key="mp3", label="MP3", lossless=False, ffmpeg_names=("mp3", "mp3float")),
    Codec(key="mp2", label="MP2", lossless=False, ffmpeg_names=("mp2", "mp2float", "mp1", "mp1float")),
    Codec(key="aac", label="AAC", lossless=False, ffmpeg_names=("aac", "aac_latm")),
    Codec(key="opus", label="Opus", lossless=False, ffmpeg_names=("opus", "libopus")),
    Codec(key="vorbis", label="Vorbis", lossless=False, ffmpeg_names=("vorbis", "libvorbis")),
    Codec(key="speex", label="Speex", lossless=False, ffmpeg_names=("speex", "libspeex")),
    Codec(key="wma", label="WMA", lossless=False, ffmpeg_names=("wmav1", "wmav2")),
    Codec(key="wma-pro", label="WMA Pro", lossless=False, ffmpeg_names=("wmapro",)),
    Codec(key="wma-voice", label="WMA Voice", lossless=False, ffmpeg_names=("wmavoice",)),
    Codec(key="wma-lossless", label="WMA lossless", lossless=True, ffmpeg_names=("wmalossless",)),
    Codec(key="ac3", label="AC-3", lossless=False, ffmpeg_names=("ac3", "ac3_fixed")),
    Codec(key="eac3", label="E-AC-3", lossless=False, ffmpeg_names=("eac3",)),
    Codec(key="dts", label="DTS", lossless=False, ffmpeg_names=("dca",)),
    Codec(key="musepack", label="Musepack", lossless=False, ffmpeg_names=("mpc7", "mpc8")),
    Codec(
        key="dsd",
        label="DSD",
        lossless=True,
        ffmpeg_names=("dsd_lsbf", "dsd_msbf", "dsd_lsbf_planar", "dsd_msbf_planar"),
    ),
    Codec(key="truehd", label="TrueHD", lossless=True, ffmpeg_names=("truehd", "mlp")),
    Codec(key="gsm", label="GSM", lossless=False, ffmpeg_names=("gsm", "gsm_ms", "libgsm", "libgsm_ms")),
    Codec(key="g722", label="G.722", lossless=False, ffmpeg_names=("g722", "adpcm_g722")),
    Codec(key="g726", label="G.726", lossless=False, ffmpeg_names=("g726", "adpcm_g726", "adpcm_g726le")),
    Codec(key="ima-adpcm", label="IMA ADPCM", lossless=False, ffmpeg_names=("adpcm_ima_wav", "adpcm_ima_qt")),
    Codec(key="ms-adpcm", label="MS ADPCM", lossless=False, ffmpeg_names=("adpcm_ms",)),
    Codec(key="vox-adpcm", label="VOX ADPCM", lossless=False, ffmpeg_names=("adpcm_ima_oki",)),
    Codec(
        key="amr",
        label="AMR",
        lossless=False,
        ffmpeg_names=("amrnb", "amrwb", "libopencore_amrnb", "libopencore_amrwb"),
    ),
)

_CONTAINER_BY_FFMPEG = {name: row for row in CONTAINERS for name in row.ffmpeg_names}
_CODEC_BY_FFMPEG = {name: row for row in CODECS for name in row.ffmpeg_names}

SOUND_SUFFIXES: frozenset[str] = frozenset(suffix for row in CONTAINERS for suffix in row.suffixes)
"""Endings of files that are expected to hold sound; a folder's other files are listed, not judged."""


def container_for(ffmpeg_name: str) -> Container:
    """The row for FFmpeg's comma-separated format name, or a row made up from that name."""
    for name in ffmpeg_name.split(","):
        if name in _CONTAINER_BY_FFMPEG:
            return _CONTAINER_BY_FFMPEG[name]
    first = ffmpeg_name.split(",")[0]
    return Container(
        key=first, label=first.upper(), suffixes=(), ffmpeg_names=(first,), media_type="application/octet-stream"
    )


def codec_for(ffmpeg_name: str) -> Codec:
    """The row for FFmpeg's codec name, or a lossy row made up from that name."""
    found = _CODEC_BY_FFMPEG.get(ffmpeg_name)
    return found or Codec(key=ffmpeg_name, label=ffmpeg_name, lossless=False, ffmpeg_names=(ffmpeg_name,))


CODEC_BY_KEY: dict[str, Codec] = {row.key: row for row in CODECS}
CONTAINER_BY_KEY: dict[str, Container] = {row.key: row for row in CONTAINERS}


def format_label(container: str, codec: str) -> str:
    """What a person calls such a file: the container where it is plain PCM, else the codec."""
    if codec in ("pcm", "pcm-float") and container in CONTAINER_BY_KEY:
        return CONTAINER_BY_KEY[container].label
    if codec == "aac" and container == "m4a":
        return "M4A"
    return CODEC_BY_KEY[codec].label if codec in CODEC_BY_KEY else codec.upper()
