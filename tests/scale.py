"""A collection of very many made-up tracks: rows as a scan would write them, without files."""

import json
import random
from dataclasses import replace
from pathlib import Path

from rumbrel.core.inspection import Facts
from rumbrel.core.tags import TagSet
from rumbrel.web.collection.facts import derived_columns, kept_facts, search_words
from rumbrel.web.collection.models import SourceFolder, Track, TrackFacts
from rumbrel.web.collection.services import recount_folder

__all__ = ["fill"]

_ROWS_A_TURN = 5_000
_WORDS = [
    "peal",
    "round",
    "stand",
    "treble",
    "tenor",
    "hunt",
    "course",
    "bell",
    "roll",
    "waltz",
    "polka",
    "march",
    "notice",
    "tower",
    "organ",
    "tide",
    "night",
]
_KINDS = (
    Facts(path="", container="flac", codec="flac", lossless=True, sample_rate=44_100, bit_depth=16, channels=2),
    Facts(path="", container="mp3", codec="mp3", sample_rate=44_100, channels=2, channel_mode="joint stereo"),
    Facts(path="", container="m4a", codec="aac", sample_rate=48_000, channels=2),
    Facts(path="", container="wav", codec="pcm", lossless=True, sample_rate=96_000, bit_depth=24, channels=2),
    Facts(path="", container="ogg", codec="opus", sample_rate=48_000, channels=1),
)


def fill(count: int, *, folders: int = 4) -> None:
    """So many tracks in some source folders; the same at every run. Facts share their text but for what the
    columns are made of, so that making them takes seconds."""
    chance = random.Random(7)
    for number in range(folders):
        folder = SourceFolder.objects.create(path=f"/made/up/{number}")
        share = count // folders + (number < count % folders)
        for start in range(0, share, _ROWS_A_TURN):
            _fill_turn(folder, range(start, min(share, start + _ROWS_A_TURN)), chance)
        recount_folder(folder=folder)


def _fill_turn(folder: SourceFolder, numbers: range, chance: random.Random) -> None:
    made = [_facts(folder, number, chance) for number in numbers]
    tracks = Track.objects.bulk_create(
        derived_columns(
            Track(folder=folder, path=facts.path, relative=str(Path(facts.path).relative_to(folder.path))), facts
        )
        for facts in made
    )
    whole = json.loads(kept_facts(made[0]))
    TrackFacts.objects.bulk_create(
        TrackFacts(track=track, data=_text(whole, facts), words=search_words(track, facts))
        for track, facts in zip(tracks, made, strict=True)
    )


def _facts(folder: SourceFolder, number: int, chance: random.Random) -> Facts:
    kind = chance.choice(_KINDS)
    title = f"{chance.choice(_WORDS)} {chance.choice(_WORDS)} {number}".title()
    seconds = chance.uniform(20, 600)
    bitrate = chance.randrange(700_000, 1_100_000) if kind.lossless else chance.choice((128_000, 192_000, 320_000))
    album = f"Album {number // 12}"
    fields = {"title": (title,), "artist": (f"Performer {number % 400}",), "album": (album,), "date": ("2024",)}
    return replace(
        kind,
        path=f"{folder.path}/{album}/{number:06} {title}.{kind.container}",
        size_bytes=round(seconds * bitrate / 8),
        modified_ns=number,
        samples=round(seconds * kind.sample_rate),
        bitrate_bps=bitrate,
        bitrate_mode="variable" if kind.lossless else "constant",
        sound_streams=1,
        tags=TagSet(fields=fields),
    )


_OWN = ("path", "size_bytes", "modified_ns", "container", "codec", "lossless", "sample_rate", "bit_depth", "channels",
        "samples", "bitrate_bps", "bitrate_mode", "channel_mode")  # fmt: skip


def _text(whole: dict[str, object], facts: Facts) -> str:
    """What kept_facts would write, faster: only what differs is put in anew."""
    own = {name: getattr(facts, name) for name in _OWN}
    tags = {**whole["tags"], "fields": {k: list(v) for k, v in facts.tags.fields.items()}}  # type: ignore[dict-item]
    return json.dumps({**whole, **own, "tags": tags}, separators=(",", ":"))
