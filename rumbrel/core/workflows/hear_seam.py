"""How two neighbours on a disc sound where they meet, before the disc is written.

Run as a module with a layout as JSON it writes that sound, and ends when the process that wanted it is gone.
"""

import json
import os
import sys
from dataclasses import replace
from pathlib import Path

from rumbrel.core.disc.layout import DiscLayout, Programme, lay_out
from rumbrel.core.disc.red_book import CHANNELS, DEPTH_BITS, SAMPLE_RATE, SAMPLES_PER_SECTOR
from rumbrel.core.disc.stream import disc_stream
from rumbrel.core.errors import DiscError, OutputError, RumbrelError
from rumbrel.core.files import move_into_place, working_file
from rumbrel.core.records import as_record, from_record
from rumbrel.core.sound.decoding import Stretch
from rumbrel.core.sound.listening import ListeningShape

__all__ = ["SEAM_SECONDS", "seam_layout", "seam_request", "seam_shape", "write_seam"]

SEAM_SECONDS = 5
"""So much is heard of each of the two (our own choice)."""


def seam_layout(layout: DiscLayout, number: int, *, joined: bool = False) -> DiscLayout:
    """The end of the track before and the beginning of track number, as they lie on the disc, or as they would if they ran
    on. Raises DiscError for a track without one before it."""
    if not 1 < number <= len(layout.tracks):
        raise DiscError("That track has none before it on this disc.")
    before, after = layout.tracks[number - 2], layout.tracks[number - 1]
    runs_on = after.runs_on or joined
    # Where they meet is the sector's edge or the sound's own, as on the disc: both ends stay as they are.
    end = _cut(before.programme, _seconds_from_end(before.programme), before.programme.samples)
    start = _cut(after.programme, 0, min(after.programme.samples, SEAM_SECONDS * after.programme.sample_rate))
    gap = None if joined else after.silence_sectors
    two = [replace(end, runs_on=False, lead=None), replace(start, runs_on=runs_on, gap_sectors=gap)]
    return lay_out(two, gap_sectors=layout.gap_sectors, medium=layout.medium, dither=layout.dither)


def _seconds_from_end(programme: Programme) -> int:
    return max(0, programme.samples - SEAM_SECONDS * programme.sample_rate)


def _cut(programme: Programme, first: int, end: int) -> Programme:
    """Some of a programme's samples, counted from its beginning; reached without decoding what lies before them, where its
    coding allows that."""
    inside = programme.choice.stretch
    base = programme.start_sample + (inside.start_sample if inside else 0)
    whole_samples = inside.whole_samples if inside else programme.start_sample + programme.samples
    stretch = Stretch(start_sample=base + first, end_sample=base + end, whole_samples=whole_samples)
    return replace(
        programme, choice=replace(programme.choice, stretch=stretch, end_sample=None), start_sample=0,
        samples=end - first, index_samples=(),
    )  # fmt: skip


def seam_shape(layout: DiscLayout) -> ListeningShape:
    samples = layout.total_sectors * SAMPLES_PER_SECTOR
    return ListeningShape(sample_rate=SAMPLE_RATE, channels=CHANNELS, samples=samples, depth_bits=DEPTH_BITS)


def write_seam(layout: DiscLayout, output: Path) -> None:
    """Write a layout's sound as one WAV file, which can be read while it grows. Raises DecodeError and OutputError."""
    parent = os.getppid()
    shape = seam_shape(layout)
    with working_file(output) as working:
        with working.open("wb") as file:
            file.write(shape.header)
            for part in disc_stream(layout):
                file.write(shape.packed(part.block))
                file.flush()
                if os.getppid() != parent:
                    return
        move_into_place(working, output, replaces=True)


def seam_request(layout: DiscLayout, output: Path) -> str:
    """What this module, run on its own, is to write."""
    return json.dumps({"layout": as_record(layout), "output": str(output)}, ensure_ascii=True)


def main() -> int:
    parts = json.loads(sys.stdin.read())
    try:
        write_seam(from_record(DiscLayout, parts["layout"]), Path(parts["output"]))
    except (RumbrelError, OSError) as error:
        print(error if isinstance(error, RumbrelError) else OutputError(str(error)))
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
