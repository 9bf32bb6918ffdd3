"""Make the files of the demo collection, on all cores, once."""

import io
import multiprocessing
import os
import shutil
from concurrent.futures import ProcessPoolExecutor
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
from PIL import Image, ImageDraw

from rumbrel.core.encoders.encodings import encoding_for
from rumbrel.core.encoders.settings import EncoderSettings
from rumbrel.core.files import move_into_place, working_file, write_whole
from rumbrel.core.sound.shape import SoundShape
from rumbrel.core.sound.stages import Treatment, build_chain
from rumbrel.core.tags import Cover, TagSet, write_tags

from .pieces import PIECES, Piece
from .synthesis import chunks, organ_roll

__all__ = ["make_collection"]

EDITION = "2"
TRUST, TRANSFERS = "Quernstow Carillon Trust", "Tape transfers"
"""The two source folders."""


def make_collection(folder: Path) -> tuple[Path, Path]:
    """Make what is not there yet below a folder; returns the two source folders. A piece appears complete
    or not at all."""
    trust, transfers = folder / TRUST, folder / TRANSFERS
    mark = folder / f".edition-{EDITION}"
    if not mark.exists():
        for each in (trust, transfers):
            shutil.rmtree(each, ignore_errors=True)
    for each in (trust, transfers):
        each.mkdir(parents=True, exist_ok=True)
    # The longest first, so that the cores end together.
    pieces = sorted(PIECES, key=lambda piece: -piece.seconds * piece.rate)
    context = multiprocessing.get_context("forkserver")
    with ProcessPoolExecutor(len(os.sched_getaffinity(0)), mp_context=context) as pool:
        film = pool.submit(_make_film, trust / "Spoken" / "Tour film.mp4")
        list(pool.map(_make_piece, [str(folder)] * len(pieces), pieces))
        film.result()
    _make_faulty(folder)
    _write_sheet(folder)
    mark.touch()
    return trust, transfers


def piece_path(folder: Path, piece: Piece) -> Path:
    return folder / f"{piece.name}{encoding_for(piece.encoding).suffix}"


def _make_piece(folder: str, piece: Piece) -> None:
    path = piece_path(Path(folder), piece)
    if path.exists():
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    encoding = encoding_for(piece.encoding)
    shape = SoundShape(sample_rate=piece.rate, channels=piece.channels, depth_bits=piece.depth_bits)
    settings = EncoderSettings(bitrate_kbps=piece.bitrate_kbps, mode=piece.mode, effort=_effort(piece.encoding))
    encoding.check_request(shape, settings)
    sound = SoundShape(sample_rate=piece.rate, channels=piece.channels, depth_bits=0)
    chain = build_chain(sound, shape, Treatment())
    with working_file(path) as working:
        encoder = encoding.open(working, shape, settings)
        seed = sum(piece.title.encode())
        for chunk in chunks(piece.maker, seed=seed, seconds=piece.seconds, rate=piece.rate, channels=piece.channels):
            encoder.write(chain.push(chunk))
        encoder.finish()
        write_tags(working, _tags(piece), container=encoding.container, codec=encoding.codec)
        move_into_place(working, path, replaces=True)


def _effort(encoding: str) -> int | None:
    """The quick step where an encoder has a slow one: these are demo files."""
    return {"mp3": 7, "aac": 0, "opus": 4}.get(encoding)


def _tags(piece: Piece) -> TagSet:
    fields = {
        "title": (piece.title,),
        "artist": (piece.performer,),
        "album": (piece.album,),
        "date": ("2024",),
        "publisher": ("Quernstow Carillon Trust",),
    }
    if piece.number:
        fields["track"] = (str(piece.number),)
    return TagSet(fields=fields, covers=(_cover(piece.album),) if piece.cover else ())


def _cover(album: str) -> Cover:
    """A plain cover: a tower of ruled lines."""
    picture = Image.new("RGB", (600, 600), "#f6f3ea")
    pen = ImageDraw.Draw(picture)
    for line in range(14):
        width = 60 + 14 * (line % 5) + 8 * line
        pen.line((300 - width, 90 + 32 * line, 300 + width, 90 + 32 * line), fill="#0d6a5d", width=9)
    pen.text((40, 556), album, fill="#1b1f1d")
    data = io.BytesIO()
    picture.save(data, "JPEG", quality=85)
    return Cover(media_type="image/jpeg", data=data.getvalue())


def _make_film(path: Path) -> None:
    """A video with sound: ninety seconds of a slowly turning roll."""
    if path.exists():
        return
    rate, seconds, pictures_a_second = 48_000, 90.0, 5
    with working_file(path) as working:
        with av.open(str(working), "w", format="mp4") as film:
            film.metadata["title"] = "Tour film"
            moving = film.add_stream("mpeg4", rate=pictures_a_second, width=160, height=120)
            sound = film.add_stream("aac", rate=rate, layout="stereo", options={"aac_coder": "fast"})
            sound.bit_rate = 128_000
            for number in range(int(seconds * pictures_a_second)):
                picture = np.full((120, 160, 3), 240, dtype=np.uint8)
                picture[:, (number * 2) % 160 :: 40] = (13, 106, 93)
                frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
                film.mux(moving.encode(frame))
            film.mux(moving.encode(None))
            at = 0
            for chunk in chunks(organ_roll, seed=7, seconds=seconds, rate=rate, channels=2):
                piece = av.AudioFrame.from_ndarray(np.ascontiguousarray(chunk.T), format="fltp", layout="stereo")
                piece.sample_rate, piece.pts, piece.time_base = rate, at, Fraction(1, rate)
                at += len(chunk)
                film.mux(sound.encode(piece))
            film.mux(sound.encode(None))
        move_into_place(working, path, replaces=True)


SHEET_OF = "Tape transfers/Evening concert/Evening concert, part one"
SHEET = """PERFORMER "T. Vaerle"
TITLE "Evening concert"
FILE "Evening concert, part one.flac" WAVE
  TRACK 01 AUDIO
    TITLE "Welcome, and a long first hymn"
    INDEX 01 00:00:00
  TRACK 02 AUDIO
    TITLE "Variations on a tower clock"
    INDEX 01 02:10:00
  TRACK 03 AUDIO
    TITLE "Dusk"
    INDEX 01 04:30:20
"""


def _write_sheet(folder: Path) -> None:
    """A cue sheet beside a long recording, by which it can be cut into tracks."""
    sheet = (folder / SHEET_OF).with_suffix(".cue")
    if not sheet.exists():
        write_whole(sheet, SHEET)


def _make_faulty(folder: Path) -> None:
    """Files with faults on purpose: cut short, empty, named wrongly, and one whose faults only decoding shows."""
    tapes = folder / TRANSFERS / "Box 7"
    tapes.mkdir(parents=True, exist_ok=True)
    by_title = {piece.title: piece_path(folder, piece) for piece in PIECES}
    whole = by_title["Ropes and sallies"].read_bytes()
    polka = by_title["Organ roll 5: The Ferryman’s Polka"].read_bytes()
    faulty = {
        "Untitled tape 7.flac": whole[: len(whole) * 2 // 5],
        "Untitled tape 8.wav": b"",
        "Polka, second transfer.mp3": polka,
        "Untitled tape 9.m4a": _unplayable(by_title["On casting a bell (lecture, side A)"].read_bytes()),
    }
    for name, content in faulty.items():
        # Written anew they would be other files to whoever knows them already.
        if not (tapes / name).exists():
            write_whole(tapes / name, content)


def _unplayable(whole: bytes) -> bytes:
    """An M4A whose index is right and whose sound is not: what a failing disk can make of one."""
    at = whole.index(b"mdat")
    size = int.from_bytes(whole[at - 4 : at], "big")
    return whole[: at + 4] + b"\xff" * (size - 8) + whole[at - 4 + size :]
