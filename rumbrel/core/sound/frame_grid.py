"""Whether sound was coded with loss before: the traces that a codec's own frames leave.

A lossy codec transforms frames of a fixed length and rounds the coefficients; many become zero. Whoever transforms the
decoded sound in the same way, beginning at the same sample as the encoder did, finds these zeros again, whatever format
the sound was kept in since. Beginning one sample earlier or later, everything is mixed and none is found. So all the places
where a frame could begin are tried, and the mean logarithm of the coefficients at each is held against that at the places
beside it, frame by frame: in sound that was never coded no place stands out, in coded sound one does, by far.

Transforms: the hybrid filter bank of MPEG Layer III (ISO/IEC 11172-3; the 512 coefficients of its window from memory,
proved by what they find in decoded MP3), the MDCT of 2,048 samples that AAC and Vorbis share (one window between theirs
finds both), and that of CELT in Opus (RFC 6716, 4.3.7: 960 samples at 48 kHz with an overlap of 120, behind its
pre-emphasis). What was resampled since, or coded in frames of other lengths alone, is not found.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["SEGMENT_SAMPLES", "FrameTrace", "find_traces"]

Floats = NDArray[np.float32]

SEGMENT_SAMPLES = 26_000
"""What a search looks at: about twenty frames of the longest kind, and one frame of places to begin."""
_GRANULES = 24
_FRAMES = 20
_LOWEST_COEFFICIENT = np.float32(2e-7)
"""Below the rounding noise of 16 bit."""
_BESIDE = (-3, -2, -1, 1, 2, 3)
_LEAST_SPREAD = 1e-9
_MOST_OF_A_FRAME = 6.0
"""Standard deviations."""
_CODED_FRAMES, _ZEROS, _NO_PROOF = 4, 0.15, 4.9
"""Zeros lower the mean logarithm of so many frames at least by that much (ours: weak codings by 0.25). Sound that is alike
from frame to frame, as a slow sweep, has a place that is a little lower in all of them, by up to 0.08: that scores no
higher than this."""
_LAYER_III_HOP, _MDCT_HOP, _CELT_HOP = 576, 1024, 960
_CELT_OVERLAP, _CELT_RATE = 120, 48_000
_PRE_EMPHASIS = 0.85


@dataclass(frozen=True, slots=True, kw_only=True)
class FrameTrace:
    """coding is what leaves such a trace; offset the sample at which its frames begin, modulo hop samples; score how many
    standard deviations this place stands out by."""

    coding: str
    hop: int
    offset: int
    score: float


def find_traces(segment: Floats, sample_rate: int, *, start: int) -> list[FrameTrace]:
    """The place that stands out most for each transform. segment is one channel of SEGMENT_SAMPLES, which begins at the
    sample start of its sound; other lengths, and silence, yield nothing."""
    if len(segment) != SEGMENT_SAMPLES or not float(np.abs(segment).max()):
        return []
    segment = np.ascontiguousarray(segment, np.float32)
    traces = [
        _standing_out("MP3", _LAYER_III_HOP, _layer_iii_means(segment), start),
        _standing_out("AAC or Vorbis", _MDCT_HOP, _mdct_means(segment, _MDCT_HOP, _vorbis_window()), start),
    ]
    if sample_rate == _CELT_RATE:
        emphasised = segment.copy()
        emphasised[1:] -= np.float32(_PRE_EMPHASIS) * segment[:-1]
        traces.append(_standing_out("Opus", _CELT_HOP, _mdct_means(emphasised, _CELT_HOP, _celt_window()), start))
    return traces


def _standing_out(coding: str, hop: int, frames: NDArray[np.float64], start: int) -> FrameTrace:
    """How far the place of the lowest logarithms lies below those beside it, against how much places differ otherwise.

    frames is shaped (frames, places). Each frame counts for so much and no more: coded sound stands out in most of them,
    where a sudden onset, or the end of silence, does so in the one that just misses it.
    """
    beside = np.median(np.stack([np.roll(frames, -step, axis=1) for step in _BESIDE]), axis=0)
    below = beside - frames
    # At the ends the places beside are those of another frame.
    below[:, : max(_BESIDE)] = below[:, -max(_BESIDE) :] = 0
    spreads = 1.4826 * np.median(np.abs(below - np.median(below, axis=1, keepdims=True)), axis=1)
    # A frame of silence tells nothing.
    sounding = spreads > _LEAST_SPREAD
    if not sounding.any():
        return FrameTrace(coding=coding, hop=hop, offset=start % hop, score=0.0)
    known = np.clip(below[sounding] / spreads[sounding, None], -_MOST_OF_A_FRAME, _MOST_OF_A_FRAME).mean(axis=0)
    spread = 1.4826 * float(np.median(np.abs(known - np.median(known))))
    place = int(np.argmax(known))
    score = float(known[place]) / spread
    if np.count_nonzero(below[:, place] >= _ZEROS) < _CODED_FRAMES:
        score = min(score, _NO_PROOF)
    return FrameTrace(coding=coding, hop=hop, offset=(start + place) % hop, score=score)


def _vorbis_window() -> Floats:
    """Vorbis I, 4.3.1: it lies between the sine and the Kaiser-Bessel windows of AAC."""
    at = (np.arange(2 * _MDCT_HOP) + 0.5) * np.pi / (2 * _MDCT_HOP)
    return np.asarray(np.sin(np.pi / 2 * np.sin(at) ** 2), np.float32)


def _celt_window() -> Floats:
    rise = np.sin(np.pi / 2 * np.sin(np.pi / 2 * (np.arange(_CELT_OVERLAP) + 0.5) / _CELT_OVERLAP) ** 2)
    window, flank = np.zeros(2 * _CELT_HOP, np.float32), (_CELT_HOP - _CELT_OVERLAP) // 2
    window[flank : flank + _CELT_OVERLAP] = rise
    window[flank + _CELT_OVERLAP : -flank - _CELT_OVERLAP] = 1
    window[-flank - _CELT_OVERLAP : -flank] = rise[::-1]
    return window


def _mdct_means(sound: Floats, hop: int, window: Floats) -> NDArray[np.float64]:
    """The mean logarithm of the coefficients between a quarter and two thirds of the band, shaped (frames, places): for
    each frame and each place to begin."""
    from scipy import fft

    frames = np.lib.stride_tricks.sliding_window_view(sound, 2 * hop)
    low, high = hop // 4, hop * 2 // 3
    means = np.empty((_FRAMES, hop))
    half = hop // 2
    for place in range(hop):
        windowed = frames[place::hop][:_FRAMES] * window
        # The fold of the MDCT, of which a cosine transform of the fourth kind remains.
        first, second, third, fourth = (windowed[:, part * half : (part + 1) * half] for part in range(4))
        folded = np.concatenate([-third[:, ::-1] - fourth, first - second[:, ::-1]], axis=1)
        coefficients = fft.dct(folded, type=4, axis=1, norm="ortho")[:, low:high]
        means[:, place] = np.log(np.abs(coefficients) + _LOWEST_COEFFICIENT).mean(axis=1)
    return means


def _layer_iii_means(sound: Floats) -> NDArray[np.float64]:
    """The same of the hybrid filter bank: 32 places of its polyphase part, and 18 of its transform behind it."""
    means = np.empty((_GRANULES, 18, 32))
    slots = 18 * (_GRANULES + 2)
    windows = np.lib.stride_tricks.sliding_window_view(sound, len(_POLYPHASE))
    turned = np.where(np.arange(slots) % 2, -1, 1).astype(np.float32)[:, None]
    for place in range(32):
        bands = windows[place::32][:slots] @ _POLYPHASE[:, _FIRST_BAND:_LAST_BAND]
        # Every other band is turned upside down: every other sample of the odd ones changes its sign.
        odd = (np.arange(_FIRST_BAND, _LAST_BAND) % 2).astype(bool)
        bands[:, odd] *= turned
        parts = np.lib.stride_tricks.sliding_window_view(bands, 36, axis=0) @ _TRANSFORM
        count = 18 * _GRANULES
        parts = parts[:count].copy()
        parts[:, odd] *= turned[:count, :, None]
        lower, upper = parts[:, :-1, 17:9:-1].copy(), parts[:, 1:, :8].copy()
        parts[:, :-1, 17:9:-1] = lower * _STRAIGHT + upper * _CROSSED
        parts[:, 1:, :8] = upper * _STRAIGHT - lower * _CROSSED
        logs = np.log(np.abs(parts) + _LOWEST_COEFFICIENT).mean(axis=(1, 2))
        means[:, :, place] = logs.reshape(_GRANULES, 18)
    return means.reshape(_GRANULES, -1)


_FIRST_BAND, _LAST_BAND = 8, 22
"""Of 32: between a quarter and two thirds of the band."""

# The window of ISO/IEC 11172-3, table 3-B.3, times 65,536; its second half mirrors the first.
_HALF_WINDOW = (
    0, -1, -1, -1, -1, -1, -1, -2, -2, -2, -2, -3, -3, -4, -4, -5, -5, -6, -7, -7, -8, -9, -10, -11, -13, -14, -16, -17,
    -19, -21, -24, -26, -29, -31, -35, -38, -41, -45, -49, -53, -58, -63, -68, -73, -79, -85, -91, -97, -104, -111, -117,
    -125, -132, -139, -147, -154, -161, -169, -176, -183, -190, -196, -202, -208, 213, 218, 222, 225, 227, 228, 228, 227,
    224, 221, 215, 208, 200, 189, 177, 163, 146, 127, 106, 83, 57, 29, -2, -36, -72, -111, -153, -197, -244, -294, -347,
    -401, -459, -519, -581, -645, -711, -779, -848, -919, -991, -1064, -1137, -1210, -1283, -1356, -1428, -1498, -1567,
    -1634, -1698, -1759, -1817, -1870, -1919, -1962, -2001, -2032, -2057, -2075, -2085, -2087, -2080, -2063, 2037, 2000,
    1952, 1893, 1822, 1739, 1644, 1535, 1414, 1280, 1131, 970, 794, 605, 402, 185, -45, -288, -545, -814, -1095, -1388,
    -1692, -2006, -2330, -2663, -3004, -3351, -3705, -4063, -4425, -4788, -5153, -5517, -5879, -6237, -6589, -6935, -7271,
    -7597, -7910, -8209, -8491, -8755, -8998, -9219, -9416, -9585, -9727, -9838, -9916, -9959, -9966, -9935, -9863, -9750,
    -9592, -9389, -9139, -8840, -8492, -8092, -7640, -7134, 6574, 5959, 5288, 4561, 3776, 2935, 2037, 1082, 70, -998,
    -2122, -3300, -4533, -5818, -7154, -8540, -9975, -11455, -12980, -14548, -16155, -17799, -19478, -21189, -22929,
    -24694, -26482, -28289, -30112, -31947, -33791, -35640, -37489, -39336, -41176, -43006, -44821, -46617, -48390,
    -50137, -51853, -53534, -55178, -56778, -58333, -59838, -61289, -62684, -64019, -65290, -66494, -67629, -68692,
    -69679, -70590, -71420, -72169, -72835, -73415, -73908, -74313, -74630, -74856, -74992, 75038,
)  # fmt: skip


def _polyphase() -> Floats:
    """Samples, the oldest first, to the 32 bands (11172-3, 3-C.1.3)."""
    window = np.zeros(512)
    for at, value in enumerate(_HALF_WINDOW):
        window[at] = value
        if at:
            window[512 - at] = -value if at & 63 else value
    band, phase = np.arange(32)[None, :], np.arange(512)[:, None] % 64
    newest_first = window[:, None] / (65_536 * 32) * np.cos((2 * band + 1) * (phase - 16) * np.pi / 64)
    return np.ascontiguousarray(newest_first[::-1], np.float32)


def _transform() -> Floats:
    """36 samples of a band to its 18 lines (3-C.1.5.3.3), long blocks."""
    sample, line = np.arange(36)[:, None], np.arange(18)[None, :]
    cosines = np.cos(np.pi / 72 * (2 * sample + 19) * (2 * line + 1))
    return np.asarray(np.sin(np.pi / 36 * (sample + 0.5)) * cosines, np.float32)


_POLYPHASE, _TRANSFORM = _polyphase(), _transform()
# Between neighbouring bands (table 3-B.9).
_ALIAS = np.array([-0.6, -0.535, -0.33, -0.185, -0.095, -0.041, -0.0142, -0.0037])
_STRAIGHT, _CROSSED = ((part / np.sqrt(1 + _ALIAS**2)).astype(np.float32) for part in (np.ones(8), _ALIAS))
