"""Discs as files: BIN with cue sheet, CD-Text and subcode; a WAV for each track; one FLAC. Whole or not at all."""

import hashlib
import os
import shutil
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, Protocol

import numpy as np
import soundfile

from rumbrel.core.errors import DiscError, ImagePresent
from rumbrel.core.files import not_written, output_errors, settle_folder, working_file, working_folder
from rumbrel.core.places import file_system_for, fitted_name
from rumbrel.core.progress import Progress, Report, Unit, no_report
from rumbrel.core.reasons import why_failed
from rumbrel.core.sound.shape import Block

from .checklist import first_failure
from .cue_sheet import CueFile, cue_sheet, read_cue_file
from .layout import DiscLayout, DiscTrack
from .red_book import BYTES_PER_SECTOR, CHANNELS, SAMPLE_RATE
from .stream import Limited, disc_stream
from .subcode import subcode_blocks
from .text import DiscText, encode_packs, text_of, titled, with_plain_codes

__all__ = ["IMAGE_FORMATS", "DiscImage", "TrackVerdict", "check_untouched", "image_paths", "read_back", "write_image"]

_READ_SECTORS = 750
IMAGE_FORMATS = ("bin", "wav", "flac")


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscImage:
    """A finished image. track_digests are BLAKE2b of each track's sectors, without its gap.

    bin_path is the image, the FLAC, or the folder of WAV files, by the format. limited is what went beyond full
    scale.
    """

    bin_path: Path
    cue_path: Path
    track_digests: tuple[str, ...]
    limited: tuple[Limited, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackVerdict:
    """Whether a track reads back as it was written."""

    number: int
    sectors: int
    equal: bool


class _Sink(Protocol):
    """Where the samples of a disc go."""

    def write(self, track: DiscTrack, in_gap: bool, block: Block) -> None: ...
    def finish(self) -> tuple[CueFile, ...] | CueFile:
        """Close, and say what the cue sheet calls it."""
        ...

    def close(self) -> None:
        """Let go of the files, finished or not."""
        ...


class _BinSink:
    def __init__(self, path: Path, name: str) -> None:
        self._file = path.open("wb")
        self._name = name

    def write(self, track: DiscTrack, in_gap: bool, block: Block) -> None:
        self._file.write(np.ascontiguousarray(block, dtype="<i2").data)

    def close(self) -> None:
        self._file.close()

    def finish(self) -> CueFile:
        self._file.flush()
        os.fsync(self._file.fileno())
        self.close()
        return CueFile(name=self._name, kind="BINARY")


class _FlacSink:
    """The whole disc, gaps and all, as one lossless file."""

    def __init__(self, path: Path, name: str) -> None:
        self._file = soundfile.SoundFile(os.fsencode(path), "w", SAMPLE_RATE, CHANNELS, subtype="PCM_16", format="FLAC")
        self._name = name

    def write(self, track: DiscTrack, in_gap: bool, block: Block) -> None:
        self._file.write(np.ascontiguousarray(block))

    def close(self) -> None:
        self._file.close()

    def finish(self) -> CueFile:
        self.close()
        return CueFile(name=self._name, kind="WAVE")


class _WavSink:
    """A file for each track; gaps are left to the sheet."""

    def __init__(self, folder: Path, name: str) -> None:
        folder.mkdir()
        self._folder = folder
        self._name = name
        self._track = 0
        self._file: soundfile.SoundFile | None = None
        self._files: list[CueFile] = []

    def write(self, track: DiscTrack, in_gap: bool, block: Block) -> None:
        if in_gap:
            if block.any():
                raise DiscError(f"Sound before track {track.number} needs an image in one file; choose bin or flac.")
            return
        if track.number != self._track:
            self.close()
            self._track = track.number
            file_name = fitted_name(f"{track.number:02d} {track.programme.title}", ".wav", file_system_for("fat32"))
            self._file = soundfile.SoundFile(
                os.fsencode(self._folder / file_name), "w", SAMPLE_RATE, CHANNELS, subtype="PCM_16", format="WAV"
            )
            self._files.append(CueFile(name=f"{self._name}/{file_name}", kind="WAVE"))
        if self._file is not None:
            self._file.write(np.ascontiguousarray(block))

    def close(self) -> None:
        if self._file is not None:
            self._file.close()

    def finish(self) -> tuple[CueFile, ...]:
        self.close()
        return tuple(self._files)


def write_image(
    layout: DiscLayout,
    folder: Path,
    name: str,
    *,
    text: DiscText | None = None,
    image_format: str = "bin",
    report: Report = no_report,
    prove: Callable[[DiscImage], bool] = lambda image: True,
    replaces: bool = False,
) -> DiscImage:
    """Write a disc's files into a folder, whole or not at all.

    prove is shown the image before it has its names, and says whether it may have them; one that may not
    is removed. An image of that name that is there already is kept unless replaces.

    Format bin: NAME.bin, NAME.cue, NAME.cdt (CD-Text) and NAME.sub (subcode). wav: a folder NAME
    and NAME.cue. flac: NAME.flac and NAME.cue. NAME.digests holds each track's digest.
    Raises DiscError when the layout may not be written, OutputError for the destination, DecodeError for
    a source.
    """
    text = with_plain_codes(text or text_of(layout, title=name))
    layout = titled(layout, text)
    failed = first_failure(layout, text)
    if failed is not None:
        raise DiscError(f"The disc cannot be written: {failed.text}.")
    sources = [Path(track.programme.path) for track in layout.tracks]
    check_untouched(image_paths(folder, name, image_format), sources)
    main = image_paths(folder, name, image_format)[0].name
    # The lock: two runs of one name at once never leave files of both.
    with output_errors(folder), working_file(folder / f"{name}.disc") as lock:
        journal = _Journal(lock, folder / f"{name}.cue")
        if not replaces:
            _refuse_present(folder, name, image_format, journal)
        with working_folder(folder / name) as work:
            limited: list[Limited] = []
            try:
                digests = _fill(work, layout, text, name, image_format, report, limited)
            except soundfile.SoundFileError as error:
                raise not_written(work / "tried", why_failed(error)) from error
            if prove(DiscImage(bin_path=work / main, cue_path=work / f"{name}.cue", track_digests=digests)):
                if not replaces:
                    _refuse_present(folder, name, image_format, journal)
                settle_folder(work)
                _move(work, folder, name, journal)
    return DiscImage(
        bin_path=folder / main, cue_path=folder / f"{name}.cue", track_digests=digests, limited=tuple(limited)
    )


_SUFFIXES = {
    "bin": (".bin", ".cue", ".cdt", ".sub", ".digests"),
    "flac": (".flac", ".cue", ".digests"),
    "wav": ("", ".cue", ".digests"),
    "iso": (".iso",),
}


def image_paths(folder: Path, name: str, image_format: str) -> list[Path]:
    """What an image of a format is made of, the sound first; of wav, the folder of its tracks."""
    return [folder / f"{name}{suffix}" for suffix in _SUFFIXES[image_format]]


def check_untouched(results: Sequence[Path], sources: Iterable[Path]) -> None:
    """Raises DiscError when a result would take the name of a source or of the folder that holds it."""
    kept = {path.resolve() for path in sources}
    for result in results:
        real = result.resolve()
        if any(source.is_relative_to(real) for source in kept):
            raise DiscError(f"{result} is a source of this disc. Choose another folder or name for the image.")


class _Journal:
    """What a run is about to move into its names, kept in the file that locks them: where it is ended between two of
    them, or cannot take them back, the next one knows that they are nobody else's. Where the sheet is there, which comes
    last, nothing was left behind: that is an image."""

    def __init__(self, lock: Path, sheet: Path) -> None:
        self._lock = lock
        self.left = frozenset() if sheet.exists() else frozenset(lock.read_text().splitlines())

    def note(self, names: Sequence[str]) -> None:
        with self._lock.open("r+") as file:
            file.write("".join(f"{name}\n" for name in names))
            file.truncate()
            file.flush()
            os.fsync(file.fileno())


def _refuse_present(folder: Path, name: str, image_format: str, journal: _Journal) -> None:
    paths = image_paths(folder, name, image_format)
    there = [path.name for path in paths if path.name not in journal.left and path.exists()]
    if there:
        raise ImagePresent(f"{there[0]} is in {folder} already and is kept. Choose another name, or have it replaced.")


def _fill(
    work: Path,
    layout: DiscLayout,
    text: DiscText,
    name: str,
    image_format: str,
    report: Report,
    limited: list[Limited],
) -> tuple[str, ...]:
    sinks: dict[str, Callable[[], _Sink]] = {
        "bin": lambda: _BinSink(work / f"{name}.bin", f"{name}.bin"),
        "flac": lambda: _FlacSink(work / f"{name}.flac", f"{name}.flac"),
        "wav": lambda: _WavSink(work / name, name),
    }
    sink = sinks[image_format]()
    try:
        digests = _pour(layout, sink, report, limited)
        files = sink.finish()
    finally:
        sink.close()
    packs, _ = encode_packs(text)
    text_file = f"{name}.cdt" if image_format == "bin" else ""
    if image_format == "bin":
        (work / text_file).write_bytes(packs)
        with (work / f"{name}.sub").open("wb") as file:
            for block in subcode_blocks(layout, product_code=text.product_code):
                file.write(block)
    (work / f"{name}.cue").write_text(cue_sheet(layout, text, files=files, text_file=text_file), encoding="utf-8")
    lines = [f"{digest}  track {number:02d}" for number, digest in enumerate(digests, 1)]
    (work / f"{name}.digests").write_text("\n".join(lines) + "\n")
    return digests


def _pour(layout: DiscLayout, sink: _Sink, report: Report, limited: list[Limited]) -> tuple[str, ...]:
    """Pass every sample to the sink; returns each track's digest."""
    digests = {track.number: hashlib.blake2b(digest_size=32) for track in layout.tracks}
    done_samples = 0
    for part in disc_stream(layout, limited=limited.append):
        sink.write(part.track, part.in_gap, part.block)
        if not part.in_gap:
            digests[part.track.number].update(np.ascontiguousarray(part.block, dtype="<i2").data)
        done_samples += len(part.block)
        done = done_samples * CHANNELS * 2 // BYTES_PER_SECTOR
        report(Progress(done=done, total=layout.total_sectors, unit=Unit.SECTORS, step="writing"))
    return tuple(digest.hexdigest() for digest in digests.values())


def _move(work: Path, folder: Path, name: str, journal: _Journal) -> None:
    """The sheet last: without it there is no disc, so a reader never finds one half there."""
    sheet = f"{name}.cue"
    parts = sorted(work.iterdir(), key=lambda each: each.name == sheet)
    there = {path.name for path in parts if (folder / path.name).exists()}
    journal.note([path.name for path in parts if path.name not in there - journal.left])
    (folder / sheet).unlink(missing_ok=True)
    try:
        for path in parts:
            target = folder / path.name
            if path.is_dir() and target.is_dir():
                shutil.rmtree(target)
            path.replace(target)
    except OSError:
        # What was moved into names that were free goes; where that cannot be, the journal stays as well.
        for path in parts:
            if path.name not in there and not path.exists():
                _take_back(folder / path.name)
        raise


def _take_back(path: Path) -> None:
    with suppress(OSError):
        shutil.rmtree(path) if path.is_dir() else path.unlink()


def read_back(image: DiscImage, *, report: Report = no_report) -> tuple[TrackVerdict, ...]:
    """Read a BIN image through its cue sheet and compare every track with what was written."""
    sheet = read_cue_file(image.cue_path)
    tracks = sheet.tracks
    try:
        path = image.cue_path.with_name(tracks[0].file.name)
        end = path.stat().st_size // BYTES_PER_SECTOR
        verdicts = []
        with path.open("rb") as file:
            for position, track in enumerate(tracks):
                stop = end if track.end_sector is None else track.end_sector
                digest = _digest_sectors(file, track.start_sector, stop, end, report)
                wanted = image.track_digests[position] if position < len(image.track_digests) else ""
                sectors = stop - track.start_sector
                verdicts.append(TrackVerdict(number=track.number, sectors=sectors, equal=digest == wanted))
    except OSError as error:
        raise DiscError(f"The image cannot be read back: {error.strerror}.") from error
    if len(tracks) != len(image.track_digests):
        raise DiscError("The image does not hold as many tracks as were written.")
    return tuple(verdicts)


def _digest_sectors(file: BinaryIO, start: int, stop: int, end: int, report: Report) -> str:
    digest = hashlib.blake2b(digest_size=32)
    file.seek(start * BYTES_PER_SECTOR)
    at = start
    while at < stop:
        count = min(_READ_SECTORS, stop - at)
        digest.update(file.read(count * BYTES_PER_SECTOR))
        at += count
        report(Progress(done=at, total=end, unit=Unit.SECTORS, step="reading back"))
    return digest.hexdigest()
