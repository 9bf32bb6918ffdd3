"""A layout against the standard and the habits of the trade, line by line."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from rumbrel.core.errors import DiscError
from rumbrel.core.verdict import Verdict

from .codes import parse_isrc, parse_product_code
from .layout import DiscLayout
from .packs import TextTooLong, encode_packs
from .red_book import FIRST_PAUSE_SECTORS, MAX_TRACKS, MIN_TRACK_SECTORS, SECTORS_PER_SECOND, format_msf
from .text import DiscText, with_right_codes
from .text_codes import as_coded, lost_in
from .text_rules import EVERY_TEXT, TextChoice, coded_text

__all__ = ["Finding", "checklist", "first_failure"]

_LONGEST_USUAL_GAP_SECTORS = 5 * SECTORS_PER_SECOND
"""The standard sets no limit; listeners take more for the end of the disc (common practice)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """A line of the check; text says why and what to do."""

    code: str
    verdict: Verdict
    text: str

    def as_record(self) -> dict[str, str]:
        return {"code": self.code, "verdict": str(self.verdict), "text": self.text}


def checklist(
    layout: DiscLayout, text: DiscText | None = None, *, choice: TextChoice | None = EVERY_TEXT
) -> tuple[Finding, ...]:
    """Every line for a layout, and for its CD-Text where it has one. choice says what of the texts goes into that
    (text.TEXT_RULES); None where its packs are given and nothing is to be coded."""
    found = tuple(finding for check in _CHECKS if (finding := check(layout)) is not None)
    if text is None:
        return found
    return (*found, *(() if choice is None else (_text(text, choice),)), _product_code(text))


def first_failure(
    layout: DiscLayout, text: DiscText | None = None, *, choice: TextChoice | None = EVERY_TEXT
) -> Finding | None:
    found = checklist(layout, text, choice=choice)
    return next((finding for finding in found if finding.verdict is Verdict.FAILED), None)


def _finding(code: str, passed: bool, text: str, otherwise: Verdict = Verdict.FAILED) -> Finding:
    return Finding(code=code, verdict=Verdict.PASSED if passed else otherwise, text=text)


def _numbers(numbers: list[int]) -> str:
    """ "track 3", "tracks 3 and 5", "tracks 1, 2, 3, 4, 5, 6 and more"."""
    if len(numbers) == 1:
        return f"track {numbers[0]}"
    first, last = (numbers[:6], "more") if len(numbers) > 6 else (numbers[:-1], str(numbers[-1]))
    return f"tracks {', '.join(map(str, first))} and {last}"


def _count(layout: DiscLayout) -> Finding:
    count = len(layout.tracks)
    if not count:
        return _finding("count", False, "there are no tracks yet")
    remedy = "" if count <= MAX_TRACKS else "; split them over two discs"
    tracks = "1 track" if count == 1 else f"{count} tracks"
    return _finding("count", count <= MAX_TRACKS, f"{tracks} ({MAX_TRACKS} allowed){remedy}")


def _shortest(layout: DiscLayout) -> Finding:
    short = [track for track in layout.tracks if track.sectors < MIN_TRACK_SECTORS]
    if short:
        lasts = f"track {short[0].number} lasts {format_msf(short[0].sectors)}"
        return _finding("shortest", False, f"{lasts}; players need 4 s. Leave it out")
    least = min((track.sectors for track in layout.tracks), default=MIN_TRACK_SECTORS)
    return _finding("shortest", True, f"every track lasts 4 s or more, the shortest {format_msf(least)}")


def _pause(layout: DiscLayout) -> Finding:
    before = layout.tracks[0].gap_sectors if layout.tracks else 0
    seconds = (FIRST_PAUSE_SECTORS + before) / SECTORS_PER_SECOND
    if layout.hidden is not None:
        return _finding("first-pause", False, "sound lies before track 1; many players never play it", Verdict.DOUBTFUL)
    return _finding("first-pause", True, f"first pause of {seconds:g} s")


def _time(layout: DiscLayout) -> Finding:
    if layout.free_sectors >= 0:
        return _finding("total", True, f"{format_msf(layout.free_sectors)} free on the {layout.medium.label}")
    track, at = layout.runs_over_in, layout.runs_over_at
    over = format_msf(-layout.free_sectors)
    where = f" in track {track.number} at {format_msf(at or 0)}" if track else ""
    return _finding("total", False, f"runs over by {over}{where}; leave out a track or shorten the gaps")


def _medium(layout: DiscLayout) -> Finding:
    if layout.medium.beyond_standard:
        text = f"{layout.medium.label}: longer than the standard knows, so some drives and players refuse it"
        return _finding("medium", False, text, Verdict.DOUBTFUL)
    return _finding("medium", True, f"{layout.medium.label}: a length that drives commonly take")


def _gaps(layout: DiscLayout) -> Finding:
    long = [t.number for t in layout.tracks[1:] if t.gap_sectors > _LONGEST_USUAL_GAP_SECTORS]
    if long:
        return _finding("gaps", False, f"{_numbers(long)} come after more than 5 s; is that meant?", Verdict.DOUBTFUL)
    runs = sum(track.runs_on for track in layout.tracks)
    joins = "" if not runs else ", 1 join runs on" if runs == 1 else f", {runs} joins run on"
    return _finding("gaps", True, f"gaps of 0 to 5 s{joins}")


def _codes(layout: DiscLayout) -> Finding:
    wrong: list[int] = []
    seen: dict[str, list[int]] = {}
    for track in layout.tracks:
        if track.programme.isrc:
            try:
                seen.setdefault(parse_isrc(track.programme.isrc), []).append(track.number)
            except DiscError:
                wrong.append(track.number)
    twice = [numbers for numbers in seen.values() if len(numbers) > 1]
    if wrong:
        return _finding("codes", False, f"the ISRC of {_numbers(wrong)} is not an ISRC; correct it or leave it out")
    if twice:
        return _finding("codes", False, f"{_numbers(twice[0])} have the same ISRC", Verdict.DOUBTFUL)
    return _finding("codes", True, f"{len(seen)} ISRC" if seen else "no codes are asked for")


def _state(layout: DiscLayout, state: str) -> list[int]:
    return [track.number for track in layout.tracks if track.programme.state == state]


def _clipping(layout: DiscLayout) -> Finding | None:
    """None where nothing was measured: the list says only what is known."""
    if all(track.programme.state is None for track in layout.tracks):
        return None
    over = [track for track in layout.tracks if track.programme.over_db > _LEAST_OVER_DB]
    if over:
        most = max(track.programme.over_db for track in over)
        numbers = _numbers([track.number for track in over])
        text = f"the level takes the peaks of {numbers} up to {most:.1f} dB beyond full scale, where they are limited"
        return _finding("clipping", False, f"{text}; lower the level", Verdict.DOUBTFUL)
    clipped = _state(layout, "clipped")
    if clipped:
        text = f"{_numbers(clipped)} {'is' if len(clipped) == 1 else 'are'} clipped in the file already; no level mends that"
        return _finding("clipped-source", False, text, Verdict.DOUBTFUL)
    return _finding("clipping", True, "nothing is limited")


def _lossy(layout: DiscLayout) -> Finding:
    lossy = [track.number for track in layout.tracks if not track.programme.lossless]
    if not lossy:
        return _finding("lossy", True, "every track comes from a lossless file")
    word = "track comes from a lossy file" if len(lossy) == 1 else "tracks come from lossy files"
    return _finding("lossy", False, f"{len(lossy)} {word}", Verdict.DOUBTFUL)


def _channels(layout: DiscLayout) -> Finding:
    silent, mono = _state(layout, "silent"), _state(layout, "mono")
    mono += [t.number for t in layout.tracks if t.programme.channels == 1 and t.number not in mono]
    if silent:
        return _finding(
            "channels", False, f"a channel of {_numbers(silent)} is silent; is that meant?", Verdict.DOUBTFUL
        )
    if mono:
        return _finding(
            "channels",
            False,
            f"{_numbers(sorted(mono))} {'is' if len(mono) == 1 else 'are'} mono (both channels equal)",
            Verdict.DOUBTFUL,
        )
    return _finding("channels", True, "two channels everywhere")


def _sources(layout: DiscLayout) -> Finding:
    missing = [track.number for track in layout.tracks if not Path(track.programme.path).is_file()]
    if missing:
        return _finding(
            "sources", False, f"the file of {_numbers(missing)} is not there; connect its disk or leave it out"
        )
    return _finding("sources", True, "every file is there")


def _found_again(layout: DiscLayout) -> Finding | None:
    """None where every file is the one that was named."""
    found = [track for track in layout.tracks if track.programme.listed_as]
    if not found:
        return None
    first = found[0].programme
    more = f", and {len(found) - 1} more like it" if len(found) > 1 else ""
    text = (
        f"{first.listed_as} was not there; {first.path} was taken for track {found[0].number}{more}; is that correct?"
    )
    return _finding("found-again", False, text, Verdict.DOUBTFUL)


def _text(text: DiscText, choice: TextChoice) -> Finding:
    """Length and characters alone; codes have lines of their own, so here they are left out of the packs
    where they are wrong."""
    if choice.rule == "none":
        return _finding("text", True, "no CD-Text is wanted")
    coded = coded_text(text, choice)
    try:
        packs, replaced = encode_packs(with_right_codes(coded))
    except TextTooLong as error:
        return _finding("text", False, str(error).rstrip("."))
    said = [getattr(one, name) for name in ("title", "performer") for one in (coded.disc, *coded.tracks)]
    lost = list(dict.fromkeys(each for each in said if lost_in(each)))
    if lost:
        more = f", and {len(lost) - 1} more like it" if len(lost) > 1 else ""
        text_said = (
            f"players show “{as_coded(lost[0])}” for “{lost[0]}”{more}: CD-Text has no code for their characters"
        )
        return _finding("text-lost", False, text_said, Verdict.DOUBTFUL)
    if replaced:
        signs = [f"{as_coded(sign)} for {sign}" for sign in replaced[:8]]
        more = " and more" if len(replaced) > 8 else ""
        return _finding(
            "text", False, f"CD-Text has no code for some characters: players show {', '.join(signs)}{more}",
            Verdict.DOUBTFUL,
        )  # fmt: skip
    return _finding("text", True, f"CD-Text takes {len(packs) // 18} of 256 packs")


def _product_code(text: DiscText) -> Finding:
    if not text.product_code:
        return _finding("product-code", True, "no UPC/EAN is asked for")
    try:
        return _finding("product-code", True, f"UPC/EAN {parse_product_code(text.product_code)}")
    except DiscError as error:
        return _finding("product-code", False, str(error).rstrip("."))


_LEAST_OVER_DB = 0.005


_CHECKS: tuple[Callable[[DiscLayout], Finding | None], ...] = (
    _count, _shortest, _pause, _time, _medium, _gaps, _codes, _clipping, _lossy, _channels, _sources, _found_again,
)  # fmt: skip
