"""The two tables of containers and codecs: a row each, whose columns hold every trait that code asks for.

Code elsewhere asks a row and keeps no list of keys of its own; a test asks every row every question.
"""

from dataclasses import dataclass
from enum import StrEnum

__all__ = [
    "CODECS",
    "CODEC_BY_KEY",
    "CONTAINERS",
    "CONTAINER_BY_KEY",
    "Bare",
    "Codec",
    "Container",
    "Lengths",
    "SOUND_SUFFIXES",
    "TagForm",
    "codec_for",
    "codec_row",
    "container_for",
    "container_row",
    "format_label",
]


class TagForm(StrEnum):
    """How tags are kept in a container."""

    NONE = ""
    RIFF = "INFO list and ID3 chunk"
    AIFF = "ID3 chunk and text chunks"
    ID3 = "ID3v2"
    MP4 = "item list"
    VORBIS = "Vorbis comments"
    APE = "APEv2"
    ASF = "ASF attributes"
    DFF = "ID3 chunk, read only"
    ATTACHED = "the muxer's own, and attached pictures"


class Lengths(StrEnum):
    """How the length of the sound in a container is found."""

    PLAIN = "from the size of its samples"
    FLAC = "from STREAMINFO and the last frame"
    MP4 = "from edits and the track's own length"
    OGG = "from the last page"
    MPEG = "from the information frame or every frame's header"
    DSF = "from the format chunk"
    STATED = "counted, against what the header states"
    COUNTED = "counted, against where the file should end"


@dataclass(frozen=True, slots=True, kw_only=True)
class Bare:
    """Samples without a header at 8 kHz, mono (common practice): libsndfile's name for them and their codec."""

    subtype: str
    codec: str
    samples_a_byte: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Container:
    """A file structure. suffixes[0] is the ending we write; the others are right for it as well.

    plain says that libsndfile reads what is in it, in large blocks; asked_as is FFmpeg's name for what it
    would not recognise in a short file. cuts_end says that decoders leave the encoder's padding on, so that
    sound is cut to its length here; states_delay, that the container can tell it from the encoder's delay.
    header_bytes is what stands before samples that are integers, float_header_bytes (and so much more for
    each channel) before floating point; None where we write none of that kind. even says that an odd number
    of bytes is filled up. chapters says that our files hold them. heard_as_is are the codecs that common browsers
    play in it (common practice).
    """

    key: str
    label: str
    suffixes: tuple[str, ...]
    ffmpeg_names: tuple[str, ...]
    media_type: str
    tags: TagForm
    lengths: Lengths = Lengths.COUNTED
    plain: bool = False
    bare: Bare | None = None
    asked_as: str = ""
    cuts_end: bool = False
    states_delay: bool = True
    header_bytes: int | None = None
    float_header_bytes: tuple[int, int] | None = None
    even: bool = False
    chapters: bool = False
    heard_as_is: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Codec:
    """A coding of sound.

    checksummed says that its frames carry checksums, to which FFmpeg has to be asked to hold them; cuts_end
    as for a container; two_decoders, that different decoders read it in different containers, which differ
    in the last bit of floating point. decoder is FFmpeg's name of the one to be asked, where it would not take that
    itself: the reference's. kbps_a_channel is what its encoder spends on a channel at a variable
    bitrate, in units of 1000 bits/s (measured); None where none of ours writes it so.
    """

    key: str
    label: str
    lossless: bool
    ffmpeg_names: tuple[str, ...]
    checksummed: bool = False
    cuts_end: bool = False
    two_decoders: bool = False
    decoder: str = ""
    kbps_a_channel: int | None = None


CONTAINERS: tuple[Container, ...] = (
    Container(
        key="wav",
        label="WAV",
        suffixes=(".wav", ".wave"),
        ffmpeg_names=("wav",),
        media_type="audio/wav",
        tags=TagForm.RIFF,
        lengths=Lengths.PLAIN,
        plain=True,
        header_bytes=44,
        float_header_bytes=(72, 8),
        even=True,
        chapters=True,
        heard_as_is=("pcm",),
    ),
    Container(
        key="rifx",
        label="RIFX",
        suffixes=(".wav", ".rifx"),
        ffmpeg_names=(),
        media_type="audio/wav",
        tags=TagForm.NONE,
        lengths=Lengths.PLAIN,
        plain=True,
    ),
    Container(
        key="rf64",
        label="RF64",
        suffixes=(".wav", ".rf64"),
        ffmpeg_names=(),
        media_type="audio/wav",
        tags=TagForm.RIFF,
        plain=True,
        header_bytes=104,
        float_header_bytes=(104, 0),
        chapters=True,
    ),
    Container(
        key="w64",
        label="W64",
        suffixes=(".w64",),
        ffmpeg_names=("w64",),
        media_type="audio/x-w64",
        tags=TagForm.NONE,
        lengths=Lengths.PLAIN,
        plain=True,
        header_bytes=104,
        float_header_bytes=(136, 0),
    ),
    Container(
        key="aiff",
        label="AIFF",
        suffixes=(".aiff", ".aif", ".aifc"),
        ffmpeg_names=("aiff",),
        media_type="audio/aiff",
        tags=TagForm.AIFF,
        lengths=Lengths.PLAIN,
        plain=True,
        header_bytes=54,
        float_header_bytes=(88, 8),
        even=True,
        chapters=True,
    ),
    Container(
        key="caf",
        label="CAF",
        suffixes=(".caf",),
        ffmpeg_names=("caf",),
        media_type="audio/x-caf",
        tags=TagForm.NONE,
        lengths=Lengths.PLAIN,
        plain=True,
    ),
    Container(
        key="au",
        label="AU",
        suffixes=(".au", ".snd"),
        ffmpeg_names=("au",),
        media_type="audio/basic",
        tags=TagForm.NONE,
        lengths=Lengths.PLAIN,
        plain=True,
        header_bytes=24,
        float_header_bytes=(24, 0),
    ),
    Container(
        key="flac",
        label="FLAC",
        suffixes=(".flac",),
        ffmpeg_names=("flac",),
        media_type="audio/flac",
        tags=TagForm.VORBIS,
        lengths=Lengths.FLAC,
        chapters=True,
        heard_as_is=("flac",),
    ),
    Container(
        key="m4a",
        label="M4A",
        suffixes=(".m4a", ".m4b", ".m4p", ".mp4", ".mov", ".m4v", ".3gp", ".3g2", ".m4r"),
        ffmpeg_names=("mov", "mp4", "m4a", "3gp", "3g2", "mj2"),
        media_type="audio/mp4",
        tags=TagForm.MP4,
        lengths=Lengths.MP4,
        chapters=True,
        heard_as_is=("aac",),
    ),
    Container(
        key="mp3",
        label="MP3",
        suffixes=(".mp3", ".mp2"),
        ffmpeg_names=("mp3",),
        media_type="audio/mpeg",
        tags=TagForm.ID3,
        lengths=Lengths.MPEG,
        asked_as="mp3",
        cuts_end=True,
        chapters=True,
        heard_as_is=("mp3",),
    ),
    Container(
        key="ogg",
        label="Ogg",
        suffixes=(".ogg", ".oga", ".opus", ".spx"),
        ffmpeg_names=("ogg",),
        media_type="audio/ogg",
        tags=TagForm.VORBIS,
        lengths=Lengths.OGG,
        chapters=True,
        heard_as_is=(
            "vorbis",
            "opus",
        ),
    ),
    Container(
        key="adts",
        label="AAC",
        suffixes=(".aac",),
        ffmpeg_names=("aac",),
        media_type="audio/aac",
        tags=TagForm.NONE,
        asked_as="aac",
        states_delay=False,
    ),
    Container(
        key="matroska",
        label="Matroska",
        suffixes=(".mka", ".mkv", ".webm"),
        ffmpeg_names=("matroska", "webm"),
        media_type="audio/x-matroska",
        tags=TagForm.ATTACHED,
    ),
    Container(
        key="avi",
        label="AVI",
        suffixes=(".avi",),
        ffmpeg_names=("avi",),
        media_type="video/x-msvideo",
        tags=TagForm.NONE,
        states_delay=False,
    ),
    Container(
        key="asf",
        label="ASF",
        suffixes=(".wma", ".asf", ".wmv"),
        ffmpeg_names=("asf",),
        media_type="audio/x-ms-wma",
        tags=TagForm.ASF,
    ),
    Container(
        key="wavpack",
        label="WavPack",
        suffixes=(".wv",),
        ffmpeg_names=("wv",),
        media_type="audio/x-wavpack",
        tags=TagForm.APE,
        lengths=Lengths.STATED,
    ),
    Container(
        key="tta",
        label="TTA",
        suffixes=(".tta",),
        ffmpeg_names=("tta",),
        media_type="audio/x-tta",
        tags=TagForm.ID3,
        lengths=Lengths.STATED,
    ),
    Container(
        key="ape",
        label="APE",
        suffixes=(".ape",),
        ffmpeg_names=("ape",),
        media_type="audio/x-ape",
        tags=TagForm.APE,
        lengths=Lengths.STATED,
    ),
    Container(
        key="tak",
        label="TAK",
        suffixes=(".tak",),
        ffmpeg_names=("tak",),
        media_type="audio/x-tak",
        tags=TagForm.NONE,
        lengths=Lengths.STATED,
    ),
    Container(
        key="musepack",
        label="Musepack",
        suffixes=(".mpc",),
        ffmpeg_names=("mpc", "mpc8"),
        media_type="audio/x-musepack",
        tags=TagForm.APE,
        lengths=Lengths.STATED,
    ),
    Container(
        key="ac3",
        label="AC-3",
        suffixes=(".ac3", ".eac3"),
        ffmpeg_names=("ac3", "eac3"),
        media_type="audio/ac3",
        tags=TagForm.NONE,
        states_delay=False,
    ),
    Container(
        key="dts",
        label="DTS",
        suffixes=(".dts",),
        ffmpeg_names=("dts", "dtshd"),
        media_type="audio/vnd.dts",
        tags=TagForm.NONE,
    ),
    Container(
        key="dsf",
        label="DSF",
        suffixes=(".dsf",),
        ffmpeg_names=("dsf",),
        media_type="audio/x-dsf",
        tags=TagForm.ID3,
        lengths=Lengths.DSF,
        cuts_end=True,
    ),
    Container(
        key="dff", label="DFF", suffixes=(".dff",), ffmpeg_names=("iff",), media_type="audio/x-dff", tags=TagForm.DFF
    ),
    Container(
        key="amr", label="AMR", suffixes=(".amr",), ffmpeg_names=("amr",), media_type="audio/amr", tags=TagForm.NONE
    ),
    Container(
        key="vox",
        label="VOX",
        suffixes=(".vox",),
        ffmpeg_names=(),
        media_type="application/octet-stream",
        tags=TagForm.NONE,
        plain=True,
        bare=Bare(subtype="VOX_ADPCM", codec="vox-adpcm", samples_a_byte=2),
        header_bytes=0,
    ),
    Container(
        key="ulaw",
        label="bare mu-law",
        suffixes=(".ulaw", ".ul"),
        ffmpeg_names=(),
        media_type="application/octet-stream",
        tags=TagForm.NONE,
        plain=True,
        bare=Bare(subtype="ULAW", codec="mu-law", samples_a_byte=1),
    ),
    Container(
        key="alaw",
        label="bare A-law",
        suffixes=(".alaw", ".al"),
        ffmpeg_names=(),
        media_type="application/octet-stream",
        tags=TagForm.NONE,
        plain=True,
        bare=Bare(subtype="ALAW", codec="a-law", samples_a_byte=1),
    ),
    Container(
        key="gsm", label="GSM", suffixes=(".gsm",), ffmpeg_names=("gsm",), media_type="audio/x-gsm", tags=TagForm.NONE
    ),
    Container(
        key="mpegts",
        label="MPEG-TS",
        suffixes=(".ts", ".m2ts"),
        ffmpeg_names=("mpegts",),
        media_type="video/mp2t",
        tags=TagForm.NONE,
        states_delay=False,
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
        ffmpeg_names=(
            "pcm_s16le",
            "pcm_s16be",
            "pcm_s24le",
            "pcm_s24be",
            "pcm_s32le",
            "pcm_s32be",
            "pcm_u16le",
            "pcm_u16be",
            "pcm_u24le",
            "pcm_u24be",
            "pcm_u32le",
            "pcm_u32be",
            "pcm_u8",
            "pcm_s8",
            "pcm_s64le",
            "pcm_s64be",
        ),
    ),
    Codec(key="flac", label="FLAC", lossless=True, ffmpeg_names=("flac",), checksummed=True),
    Codec(key="alac", label="ALAC", lossless=True, ffmpeg_names=("alac",)),
    Codec(key="wavpack", label="WavPack", lossless=True, ffmpeg_names=("wavpack",), checksummed=True),
    Codec(key="tta", label="TTA", lossless=True, ffmpeg_names=("tta",), checksummed=True),
    Codec(key="ape", label="APE", lossless=True, ffmpeg_names=("ape",), checksummed=True),
    Codec(key="tak", label="TAK", lossless=True, ffmpeg_names=("tak",), checksummed=True),
    Codec(key="mp3", label="MP3", lossless=False, ffmpeg_names=("mp3", "mp3float"), kbps_a_channel=95),
    Codec(key="mp2", label="MP2", lossless=False, ffmpeg_names=("mp2", "mp2float", "mp1", "mp1float")),
    Codec(key="aac", label="AAC", lossless=False, ffmpeg_names=("aac",), kbps_a_channel=96),
    # The same coding, but packed so that other containers cannot take its packets.
    Codec(key="aac-latm", label="AAC in LATM", lossless=False, ffmpeg_names=("aac_latm",)),
    Codec(
        key="opus",
        label="Opus",
        lossless=False,
        ffmpeg_names=("opus", "libopus"),
        decoder="libopus",
        kbps_a_channel=64,
    ),
    Codec(
        key="vorbis",
        label="Vorbis",
        lossless=False,
        ffmpeg_names=("vorbis", "libvorbis"),
        cuts_end=True,
        two_decoders=True,
        kbps_a_channel=80,
    ),
    Codec(key="speex", label="Speex", lossless=False, ffmpeg_names=("speex", "libspeex"), cuts_end=True),
    Codec(key="wma", label="WMA", lossless=False, ffmpeg_names=("wmav1", "wmav2"), kbps_a_channel=64),
    Codec(key="wma-pro", label="WMA Pro", lossless=False, ffmpeg_names=("wmapro",)),
    Codec(key="wma-voice", label="WMA Voice", lossless=False, ffmpeg_names=("wmavoice",)),
    Codec(key="wma-lossless", label="WMA lossless", lossless=True, ffmpeg_names=("wmalossless",)),
    Codec(key="ac3", label="AC-3", lossless=False, ffmpeg_names=("ac3", "ac3_fixed"), checksummed=True),
    Codec(key="eac3", label="E-AC-3", lossless=False, ffmpeg_names=("eac3",), checksummed=True),
    Codec(key="dts", label="DTS", lossless=False, ffmpeg_names=("dca",)),
    Codec(key="musepack", label="Musepack", lossless=False, ffmpeg_names=("mpc7", "mpc8")),
    Codec(
        key="dsd",
        label="DSD",
        lossless=True,
        ffmpeg_names=("dsd_lsbf", "dsd_msbf", "dsd_lsbf_planar", "dsd_msbf_planar"),
    ),
    Codec(key="dst", label="DSD packed as DST", lossless=True, ffmpeg_names=("dst",)),
    Codec(key="truehd", label="TrueHD", lossless=True, ffmpeg_names=("truehd", "mlp")),
    Codec(key="gsm", label="GSM", lossless=False, ffmpeg_names=("gsm", "gsm_ms", "libgsm", "libgsm_ms")),
    Codec(key="g722", label="G.722", lossless=False, ffmpeg_names=("g722", "adpcm_g722")),
    Codec(key="g726", label="G.726", lossless=False, ffmpeg_names=("g726", "adpcm_g726", "adpcm_g726le")),
    Codec(key="ima-adpcm", label="IMA ADPCM", lossless=False, ffmpeg_names=("adpcm_ima_wav", "adpcm_ima_qt")),
    Codec(key="ms-adpcm", label="MS ADPCM", lossless=False, ffmpeg_names=("adpcm_ms",)),
    Codec(key="vox-adpcm", label="VOX ADPCM", lossless=False, ffmpeg_names=("adpcm_ima_oki",)),
    # FFmpeg has no decoder for it: the name is libsndfile's.
    Codec(key="nms-adpcm", label="NMS ADPCM", lossless=False, ffmpeg_names=("nms_adpcm",)),
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
        key=first,
        label=first.upper(),
        suffixes=(),
        ffmpeg_names=(first,),
        media_type="application/octet-stream",
        tags=TagForm.NONE,
    )


def codec_for(ffmpeg_name: str) -> Codec:
    """The row for FFmpeg's codec name, or a lossy row made up from that name."""
    found = _CODEC_BY_FFMPEG.get(ffmpeg_name)
    return found or Codec(key=ffmpeg_name, label=ffmpeg_name, lossless=False, ffmpeg_names=(ffmpeg_name,))


CODEC_BY_KEY: dict[str, Codec] = {row.key: row for row in CODECS}
CONTAINER_BY_KEY: dict[str, Container] = {row.key: row for row in CONTAINERS}


def container_row(key: str) -> Container:
    """The row of a key, or for a container that has none a row without any special trait."""
    return CONTAINER_BY_KEY.get(key) or container_for(key)


def codec_row(key: str) -> Codec:
    """The row of a key, or for a codec that has none a row without any special trait."""
    return CODEC_BY_KEY.get(key) or codec_for(key)


def format_label(container: str, codec: str) -> str:
    """What a person calls such a file: the container where it is plain PCM, else the codec."""
    if codec in ("pcm", "pcm-float") and container in CONTAINER_BY_KEY:
        return CONTAINER_BY_KEY[container].label
    if codec == "aac" and container == "m4a":
        return "M4A"
    return CODEC_BY_KEY[codec].label if codec in CODEC_BY_KEY else codec.upper()
