"""./run playlist: a list from one format to another."""

from dataclasses import replace
from pathlib import Path
from typing import Any

from django.core.management.base import CommandParser

from rumbrel.core.disc.cue_sheet import read_cue_file
from rumbrel.core.errors import PlaylistError
from rumbrel.core.playlists import ListEntry, TrackList, read_list, write_list
from rumbrel.web.ui.commands import ReportingCommand


class Command(ReportingCommand):
    help = "Read a list (M3U, M3U8, PLS, XSPF, cue sheet) and write it as another (by the ending of OUT)."

    def add_arguments(self, parser: CommandParser) -> None:
        super().add_arguments(parser)
        parser.add_argument("--absolute", action="store_true", help="write absolute paths, not relative ones")
        parser.add_argument("--drop-missing", action="store_true", help="leave out what is not there")
        parser.add_argument("source", type=Path, metavar="IN", help="the list to read")
        parser.add_argument(
            "result", type=Path, metavar="OUT", help="the list to write; its ending says in which format"
        )

    def work(self, options: dict[str, Any]) -> bool:
        source, result = options["source"], options["result"]
        if result.exists() and result.samefile(source):
            raise PlaylistError("OUT is the list that is read. Name another, so that nothing is lost.")
        tracks = _of_sheet(source) if source.suffix.lower() == ".cue" else read_list(source)
        missing = [entry for entry in tracks.entries if entry.missing and not entry.is_elsewhere]
        kept = tuple(e for e in tracks.entries if not (options["drop_missing"] and e in missing))
        write_list(replace(tracks, entries=kept), result, relative=not options["absolute"])
        for entry in kept:
            self.report(_record(entry), _sentence(entry), options)
        return not missing


def _of_sheet(path: Path) -> TrackList:
    """The files a cue sheet cuts, each once: a list cannot say where in a file a track begins."""
    sheet = read_cue_file(path)
    files = list(dict.fromkeys(track.file.name for track in sheet.tracks))
    if len(files) < len(sheet.tracks):
        raise PlaylistError(
            "The sheet cuts one file into several tracks, which such a list cannot say. Use it for a disc."
        )
    return TrackList(
        title=sheet.title,
        entries=tuple(
            ListEntry(
                path=path.parent / t.file.name,
                written=t.file.name,
                title=t.title,
                performer=t.performer or sheet.performer,
            )
            for t in sheet.tracks
        ),
    )


def _record(entry: ListEntry) -> dict[str, Any]:
    return {
        "path": str(entry.path),
        "written": entry.written,
        "title": entry.title,
        "performer": entry.performer,
        "seconds": entry.seconds,
        "missing": entry.missing and not entry.is_elsewhere,
        "found_again": entry.found_again,
    }


def _sentence(entry: ListEntry) -> str:
    if entry.is_elsewhere:
        return f"kept as it is: {entry.written}"
    if entry.missing:
        return f"missing: {entry.written or entry.path}"
    return f"found nearby: {entry.written} is at {entry.path}" if entry.found_again else str(entry.path)
