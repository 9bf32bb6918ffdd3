"""Chapters: read from any container by FFmpeg, written into M4A by packing it anew."""

from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import av.error

from rumbrel.core.files import remove_working, working_path

from .model import Chapter
from .unwritten import tags_not_written

__all__ = ["read_chapters", "write_m4a_chapters"]

_MOST_CHAPTERS = 5_000


def read_chapters(opened: Any) -> tuple[Chapter, ...]:
    """Chapters of an open FFmpeg container, in order of time."""
    found = []
    for entry in opened.chapters()[:_MOST_CHAPTERS]:
        base = Fraction(entry["time_base"])
        start, end = float(entry["start"] * base), float(entry["end"] * base)
        title = str(entry["metadata"].get("title", "")).replace("\0", "")
        if start >= 0 and end >= start:
            found.append(Chapter(start_seconds=start, end_seconds=end, title=title))
    return tuple(sorted(found, key=lambda chapter: chapter.start_seconds))


def write_m4a_chapters(path: Path, chapters: tuple[Chapter, ...]) -> None:
    """Pack an M4A anew beside itself with chapters, coded sound untouched. Raises TagError, OutputError."""
    packed = working_path(path)
    try:
        with av.open(str(path)) as source:
            sound = source.streams.audio[0]
            options = {
                "brand": "M4A ",
                "movflags": "+faststart",
                "movie_timescale": str(sound.codec_context.sample_rate),
            }
            with av.open(str(packed), "w", format="mp4", container_options=options) as result:
                result.set_chapters(
                    [
                        {
                            "id": number,
                            "start": round(chapter.start_seconds * 1000),
                            "end": round(chapter.end_seconds * 1000),
                            "time_base": Fraction(1, 1000),
                            "metadata": {"title": chapter.title},
                        }
                        for number, chapter in enumerate(chapters)
                    ]
                )
                stream = result.add_stream_from_template(sound)
                for packet in source.demux(sound):
                    if packet.dts is not None:
                        packet.stream = stream
                        result.mux(packet)
        packed.replace(path)
    except (av.error.FFmpegError, ValueError, OSError) as error:
        raise tags_not_written(path, error) from error
    finally:
        remove_working(packed)
