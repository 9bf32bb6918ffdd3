"""What of a disc's texts goes into its CD-Text, and how it is spelled there."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

from .packs import MOST_PACKS, PACK_BYTES, TextTooLong, encode_packs, japanese_of, text_use
from .text import DiscText, TrackText, with_right_codes

__all__ = ["EVERY_TEXT", "TEXT_RULES", "TextChoice", "coded_text", "packs_by_choice", "rules_that_fit", "thinned"]


TEXT_RULES: dict[str, str] = {
    "all": "every text",
    "performer-once": "performers once, for the whole disc",
    "titles-performers": "titles and performers alone",
    "titles": "titles alone",
    "short": "titles and performers, shortened until they fit",
    "none": "no CD-Text",
}
"""What of a disc's texts goes into its CD-Text."""


def thinned(text: DiscText, rule: str) -> DiscText:
    """What a rule leaves of a disc's texts for its CD-Text; the sheet and printed pieces keep all of them."""
    performers = {track.performer for track in text.tracks}
    if rule == "performer-once" and len(performers) == 1:
        alone = tuple(replace(track, performer="") for track in text.tracks)
        return replace(text, disc=replace(text.disc, performer=performers.pop() or text.disc.performer), tracks=alone)
    if rule in ("titles", "titles-performers"):
        return _with_names(text, performers=rule == "titles-performers", most=_NO_LIMIT)
    if rule == "short":
        return _shortened(text)
    return text


_NO_LIMIT = 10_000


def _with_names(text: DiscText, *, performers: bool, most: int) -> DiscText:
    """Titles, and performers where they are wanted, of at most so many characters; codes stay."""

    def named(one: TrackText) -> TrackText:
        performer = _cut(one.performer, most) if performers else ""
        return TrackText(title=_cut(one.title, most), performer=performer, isrc=one.isrc)

    return replace(
        text, disc=named(text.disc), tracks=tuple(named(track) for track in text.tracks), disc_id="", genre=""
    )


def _cut(text: str, most: int) -> str:
    """At the end of a word where one ends near, without a sign that something is missing: there is no room for one."""
    if len(text) <= most:
        return text
    head = text[:most]
    at_word = head.rpartition(" ")[0]
    return (at_word if len(at_word) >= most * 2 // 3 else head).rstrip(" ,;:-(")


def _shortened(text: DiscText) -> DiscText:
    """Titles and performers as long as all of them fit."""
    low, high = (
        1,
        max([len(part.title) for part in (text.disc, *text.tracks)] + [len(t.performer) for t in text.tracks]),
    )
    while low < high:
        middle = (low + high + 1) // 2
        packs = text_use(_with_names(text, performers=True, most=middle)).packs
        low, high = (middle, high) if packs <= MOST_PACKS else (low, middle - 1)
    return _with_names(text, performers=True, most=low)


@dataclass(frozen=True, slots=True, kw_only=True)
class TextChoice:
    """rule is one of TEXT_RULES. spellings say how texts are spelled whose characters ISO 8859-1 lacks; japanese asks for
    a second block in MS-JIS, where that holds all of them."""

    rule: str = "all"
    spellings: Mapping[str, str] = field(default_factory=dict)
    japanese: bool = False


EVERY_TEXT = TextChoice()
"""Every text as it is."""


def coded_text(text: DiscText, choice: TextChoice) -> DiscText:
    """What block 0 holds of a disc's texts."""
    return thinned(_spelled(text, choice.spellings), choice.rule)


def _spelled(text: DiscText, spellings: Mapping[str, str]) -> DiscText:
    if not spellings:
        return text

    def spelled(one: TrackText) -> TrackText:
        return replace(one, **{name: spellings.get(said, said) for name in _NAMES if (said := getattr(one, name))})

    return replace(text, disc=spelled(text.disc), tracks=tuple(map(spelled, text.tracks)))


_NAMES = ("title", "performer", "songwriter", "composer", "arranger", "message")


def packs_by_choice(text: DiscText, choice: TextChoice) -> bytes | None:
    """The packs of a disc: None for every text as it is, which whoever writes codes, b"" for none. Raises TextTooLong."""
    if choice.rule == "none":
        return b""
    japanese = japanese_of(thinned(text, choice.rule)) if choice.japanese else None
    if choice.rule == "all" and not choice.spellings and japanese is None:
        return None
    return encode_packs(with_right_codes(coded_text(text, choice)), japanese)[0]


def rules_that_fit(text: DiscText, choice: TextChoice) -> tuple[tuple[str, int], ...]:
    """The rules by which a CD-Text fits, the one that loses least first, with the packs that each takes."""
    found: list[tuple[str, int]] = []
    for rule in TEXT_RULES:
        one = replace(choice, rule=rule, japanese=False)
        try:
            packs = packs_by_choice(text, one)
            taken = len(encode_packs(with_right_codes(text))[0] if packs is None else packs) // PACK_BYTES
        except TextTooLong:
            continue
        if taken not in {packs for _, packs in found}:
            found.append((rule, taken))
    return tuple(found)
