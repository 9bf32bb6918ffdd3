"""Discs as files: BIN with cue sheet, CD-Text and subcode; a WAV for each track; one FLAC. Whole or not at all."""

import os
import shutil
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np
import soundfile

from rumbrel.core.errors import DiscError, ImagePresent
from rumbrel.core.files import not_written, output_errors, settle_folder, working_file, working_folder
from rumbrel.core.places import file_system_for, fitted_name
from rumbrel.core.progress import Progress, Report, Unit, no_report
from rumbrel.core.reasons import why_failed
from rumbrel.core.sound.shape import Block

from .checklist import first_failure
from .cue_sheet import CueFile, CueSheet, cue_sheet, read_cue_file
from .layout import DiscLayout, DiscTrack
from .packs import encode_packs
from .proof import DiscMarks, MarkMaker, regions_of
from .red_book import BYTES_PER_SECTOR, CHANNELS, SAMPLE_RATE
from .stream import Limited, disc_stream
from .subcode import SUBCODE_BYTES, subcode_blocks
from .text import DiscText, text_of, titled, with_plain_codes
from .text_rules import EVERY_TEXT

__all__ = [
    "IMAGE_FORMATS",
    "DiscImage",
    "ReadBack",
    "TrackVerdict",
    "check_untouched",
    "image_paths",
    "read_back",
    "write_image",
]

_READ_SECTORS = 750
IMAGE_FORMATS = ("bin", "wav", "flac")


@dataclass(frozen=True, slots=True, kw_only=True)
class DiscImage:
    """A finished image. marks are what was written into it, limited what went beyond full scale.

    bin_path is the image, the FLAC, or the folder of WAV files, by the format.
    """

    bin_path: Path
    cue_path: Path
    marks: DiscMarks
    limited: tuple[Limited, ...] = ()

    @property
    def track_digests(self) -> tuple[str, ...]:
        """BLAKE2b of each track's sectors, without its gap."""
        return self.marks.track_digests()


@dataclass(frozen=True, slots=True, kw_only=True)
class TrackVerdict:
    """Whether a track reads back as it was written, with the gap before it and the subcode of both; differs says what
    does not, and where."""

    number: int
    sectors: int
    differs: tuple[str, ...] = ()

    @property
    def equal(self) -> bool:
        return not self.differs


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadBack:
    """What reading a whole image back told: of each track, and of what belongs to none."""

    tracks: tuple[TrackVerdict, ...]
    differs: tuple[str, ...] = ()

    @property
    def equal(self) -> bool:
        return not self.differs and all(track.equal for track in self.tracks)

    @property
    def differences(self) -> tuple[str, ...]:
        """All of them, as clauses."""
        return (*(said for track in self.tracks for said in track.differs), *self.differs)


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
    packs: bytes | None = None,
) -> DiscImage:
    """Write a disc's files into a folder, whole or not at all. packs are the CD-Text of a disc that is copied, kept as
    they are (b"" for none), in place of what the text would be coded as.

    prove is shown the image before it has its names, and says whether it may have them; one that may not
    is removed. An image of that name that is there already is kept unless replaces.

    Format bin: NAME.bin, NAME.cue, NAME.cdt (CD-Text) and NAME.sub (subcode). wav: a folder NAME
    and NAME.cue. flac: NAME.flac and NAME.cue. NAME.digests holds the digest of each track and gap, and of subcode and
    packs where they are written.
    Raises DiscError when the layout may not be written, OutputError for the destination, DecodeError for
    a source.
    """
    text = with_plain_codes(text or text_of(layout, title=name))
    layout = titled(layout, text)
    failed = first_failure(layout, text, choice=EVERY_TEXT if packs is None else None)
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
                marks = _fill(work, layout, text, name, image_format, report, limited, packs)
            except soundfile.SoundFileError as error:
                raise not_written(work / "tried", why_failed(error)) from error
            if prove(DiscImage(bin_path=work / main, cue_path=work / f"{name}.cue", marks=marks)):
                if not replaces:
                    _refuse_present(folder, name, image_format, journal)
                settle_folder(work)
                made = {path.name for path in work.iterdir()}
                _move(work, folder, name, journal)
                for path in image_paths(folder, name, image_format):
                    if path.name not in made:
                        # Of the image that was there before, and of no part of this one.
                        path.unlink(missing_ok=True)
    return DiscImage(bin_path=folder / main, cue_path=folder / f"{name}.cue", marks=marks, limited=tuple(limited))


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
    packs: bytes | None,
) -> DiscMarks:
    maker = MarkMaker(regions_of(layout))
    sinks: dict[str, Callable[[], _Sink]] = {
        "bin": lambda: _BinSink(work / f"{name}.bin", f"{name}.bin"),
        "flac": lambda: _FlacSink(work / f"{name}.flac", f"{name}.flac"),
        "wav": lambda: _WavSink(work / name, name),
    }
    sink = sinks[image_format]()
    try:
        _pour(layout, sink, maker, report, limited)
        files = sink.finish()
    finally:
        sink.close()
    if packs is None or image_format != "bin":
        packs = encode_packs(text)[0] if image_format == "bin" else b""
    text_file = f"{name}.cdt" if packs else ""
    if text_file:
        (work / text_file).write_bytes(packs)
    if image_format == "bin":
        with (work / f"{name}.sub").open("wb") as file:
            for block in subcode_blocks(layout, product_code=text.product_code):
                file.write(block)
                maker.push_subcode(block)
    (work / f"{name}.cue").write_text(cue_sheet(layout, text, files=files, text_file=text_file), encoding="utf-8")
    marks = maker.marks(packs=packs)
    (work / f"{name}.digests").write_text(marks.digest_lines())
    return marks


def _pour(layout: DiscLayout, sink: _Sink, maker: MarkMaker, report: Report, limited: list[Limited]) -> None:
    """Pass every sample to the sink, and its bytes as the disc holds them to the maker."""
    done_samples = 0
    for part in disc_stream(layout, limited=limited.append):
        sink.write(part.track, part.in_gap, part.block)
        maker.push_sound(np.ascontiguousarray(part.block, dtype="<i2").data)
        done_samples += len(part.block)
        done = done_samples * CHANNELS * 2 // BYTES_PER_SECTOR
        report(Progress(done=done, total=layout.total_sectors, unit=Unit.SECTORS, step="writing"))


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


def read_back(image: DiscImage, *, report: Report = no_report) -> ReadBack:
    """Read the files of a BIN image and compare every sector from address 0 to the lead-out, the subcode of each, the
    packs, and where the cue sheet says that everything lies. Raises DiscError where they cannot be read."""
    marks, sheet = image.marks, read_cue_file(image.cue_path)
    try:
        path = image.cue_path.with_name(sheet.tracks[0].file.name)
        packs = image.cue_path.with_name(sheet.text_file).read_bytes() if sheet.text_file else b""
        maker = MarkMaker(marks.regions)
        end = path.stat().st_size
        with path.open("rb") as file:
            while block := file.read(_READ_SECTORS * BYTES_PER_SECTOR):
                maker.push_sound(block)
                done = file.tell() // BYTES_PER_SECTOR
                report(Progress(done=done, total=end // BYTES_PER_SECTOR, unit=Unit.SECTORS, step="reading back"))
        with image.cue_path.with_suffix(".sub").open("rb") as file:
            while block := file.read(_READ_SECTORS * SUBCODE_BYTES):
                maker.push_subcode(block)
    except OSError as error:
        raise DiscError(f"The image cannot be read back: {error.strerror}.") from error
    found = marks.differences(maker.marks(packs=packs))
    differs = [*found.get(0, ())]
    if end != len(marks.sound) * BYTES_PER_SECTOR:
        differs.append(f"the length of the disc, {end:,} bytes of {len(marks.sound) * BYTES_PER_SECTOR:,}")
    if _places_in(sheet) != [(r.number, r.in_gap, r.start_sector) for r in marks.regions]:
        differs.append("where the cue sheet says that tracks and gaps begin")
    tracks = tuple(
        TrackVerdict(number=region.number, sectors=region.sectors, differs=found.get(region.number, ()))
        for region in marks.regions
        if not region.in_gap
    )
    return ReadBack(tracks=tracks, differs=tuple(differs))


def _places_in(sheet: CueSheet) -> list[tuple[int, bool, int]]:
    """(number, whether it is the gap before it, address) of everything that a sheet of one file lists."""
    found: list[tuple[int, bool, int]] = []
    for track in sheet.tracks:
        if track.gap_sector is not None and track.gap_sector < track.start_sector:
            found.append((track.number, True, track.gap_sector))
        found.append((track.number, False, track.start_sector))
    return found
