"""Why a library could not read or write sound, in our words: theirs never reach the user."""

import errno
import os

import av.error
import soundfile

__all__ = ["is_systems", "why_failed"]

_OF_FFMPEG: dict[type[Exception], str] = {
    av.error.InvalidDataError: "its data is damaged, or of another kind than its name says",
    av.error.EOFError: "it ends before any sound came",
    av.error.PatchWelcomeError: "its coding is not known here",
    av.error.DecoderNotFoundError: "there is no decoder here for its coding",
    av.error.DemuxerNotFoundError: "its kind of file is not known here",
    av.error.EncoderNotFoundError: "there is no encoder here for it",
    av.error.ArgumentError: "it states something that cannot be",
}
_SYSTEM = 2
_OF_LIBSNDFILE = {
    1: "its kind of file is not known here",
    _SYSTEM: "the system could not read or write it",
    3: "its structure is damaged",
    4: "its coding is not known here",
}
"""By libsndfile's public error numbers (sndfile.h)."""
_UNKNOWN = "the library for it gave up"


def is_systems(error: BaseException) -> bool:
    """Whether the system refused what a library asked of it. libsndfile does not tell what it said, and FFmpeg takes its
    number of an argument that cannot be for its own."""
    if isinstance(error, soundfile.LibsndfileError):
        return bool(error.code == _SYSTEM)
    number = error.errno if isinstance(error, OSError | av.error.FFmpegError) else 0
    return number in errno.errorcode and number != errno.EINVAL


def why_failed(error: BaseException) -> str:
    """The reason without a stop at its end, to go into a sentence."""
    for kind, words in _OF_FFMPEG.items():
        if isinstance(error, kind):
            return words
    if isinstance(error, soundfile.LibsndfileError):
        return _OF_LIBSNDFILE.get(error.code, _UNKNOWN)
    if isinstance(error, OSError) and error.errno is not None and error.errno in errno.errorcode:
        text = os.strerror(error.errno)
        return text[0].lower() + text[1:]
    return _UNKNOWN
