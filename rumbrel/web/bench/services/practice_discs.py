"""Discs to practise with on any installation: hard to read, with hidden sound, with pre-emphasis. Their sound is made here."""

import json
import math
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import soundfile
from django.conf import settings

from rumbrel.core.disc.image import write_image
from rumbrel.core.disc.layout import Programme, lay_out
from rumbrel.core.disc.media import medium_for
from rumbrel.core.disc.red_book import SAMPLE_RATE, SECTORS_PER_SECOND
from rumbrel.core.disc.text import text_of
from rumbrel.core.files import output_errors, working_folder, write_whole
from rumbrel.core.inspection import inspect_file
from rumbrel.core.progress import Progress, Unit
from rumbrel.core.workflows.disc_sounds import programme_of
from rumbrel.web.jobs.models import Job
from rumbrel.web.jobs.services import Desk, start_job

__all__ = ["has_practice_discs", "make_practice_discs", "practice_folder", "start_practice_discs"]

_LABELS = {
    "scratched": {"label": "Practice: a scratched disc", "condition": "scratched"},
    "spots": {"label": "Practice: a disc with unreadable spots", "condition": "broken"},
    "hidden": {"label": "Practice: sound before track 1"},
    "emphasis": {"label": "Practice: pre-emphasis on every track"},
    "nameless": {"label": "Practice: a disc without names"},
}
_MEDIUM = medium_for("80")
_TRACKS, _SECONDS = 3, 12
# A bell's partials by the names of the trade, as ratios to the prime (common practice).
_PARTIALS = ((0.5, 1.0), (1.0, 0.8), (1.2, 0.6), (1.5, 0.4), (2.0, 0.7))


def practice_folder() -> Path:
    return settings.RUMBREL.shelf / "practice"


def has_practice_discs() -> bool:
    return (practice_folder() / "discs.json").is_file()


def start_practice_discs() -> Job:
    return start_job(kind="practice", subject=0, title="Make practice discs", once_more=True)


def make_practice_discs(desk: Desk, subject: int) -> str:
    """Returns what was made. What is there already is written again, the same. Raises OutputError."""
    folder = practice_folder()
    with output_errors(folder.parent):
        folder.mkdir(parents=True, exist_ok=True)
    with working_folder(folder / "sounds") as sounds:
        parts = [_part(sounds, number) for number in range(_TRACKS + 1)]
        for number, key in enumerate(_LABELS, 1):
            _disc(folder / key, key, parts)
            desk.report(Progress(done=number, total=len(_LABELS), unit=Unit.TRACKS, step="writing", items=len(_LABELS)))
    write_whole(folder / "discs.json", json.dumps(_LABELS, indent=1) + "\n")
    return f"{len(_LABELS)} practice discs are on the shelf."


def _part(folder: Path, number: int) -> Programme:
    """A round on bells; another one for each number."""
    path = folder / f"Practice {number}.wav"
    sound = np.zeros((_SECONDS * SAMPLE_RATE, 2), np.float32)
    time = np.arange(3 * SAMPLE_RATE) / SAMPLE_RATE
    for strike in range(2 * _SECONDS - 5):
        prime = 330 * 2 ** (-((strike + 2 * number) % 8) / 8)
        tone = sum(
            level * np.exp(-time * (1 + 2 * ratio)) * np.sin(math.tau * prime * ratio * time)
            for ratio, level in _PARTIALS
        )
        start = strike * SAMPLE_RATE // 2
        panned = np.stack([tone * 0.09, tone * (0.05 + 0.01 * (strike % 5))], axis=1)
        sound[start : start + len(time)] += panned[: len(sound) - start]
    soundfile.write(path, sound, SAMPLE_RATE, subtype="PCM_16")
    return replace(programme_of(inspect_file(path)), title=f"Round {number}", performer="Practice bells")


def _disc(folder: Path, key: str, parts: Sequence[Programme]) -> None:
    tracks = [replace(part, pre_emphasis=key == "emphasis") for part in parts[1:]]
    hidden = parts[0] if key == "hidden" else None
    layout = lay_out(tracks, gap_sectors=2 * SECTORS_PER_SECOND, medium=_MEDIUM, hidden=hidden)
    name = str(_LABELS[key]["label"]).removeprefix("Practice: ").capitalize()
    text = text_of(layout, title=name)
    written = write_image(layout, folder, name, text=text, replaces=True)
    if key == "nameless":
        words = ("CDTEXTFILE", "TITLE", "PERFORMER", "SONGWRITER")
        lines = written.cue_path.read_text(encoding="utf-8").splitlines()
        kept = [line for line in lines if not line.strip().startswith(words)]
        write_whole(written.cue_path, "\n".join(kept) + "\n")
        written.bin_path.with_suffix(".cdt").unlink(missing_ok=True)
