"""How a file is heard in a browser: as it is, or decoded into a WAV file that grows while it is heard."""

import os
import subprocess
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from threading import Lock

from rumbrel.core.disc.layout import DiscLayout
from rumbrel.core.errors import DecodeError
from rumbrel.core.files import working_path
from rumbrel.core.formats.table import container_row
from rumbrel.core.inspection import Facts
from rumbrel.core.sound.listening import ListeningShape, request_record

from .hear_seam import seam_request, seam_shape

__all__ = ["Decoders", "Hearing", "heard_as_is", "hearing_of"]

_SECONDS_BETWEEN_LOOKS = 0.02
_KEPT_BYTES = 4_000_000_000
_DECODE, _SEAM = "rumbrel.core.sound.listening", "rumbrel.core.workflows.hear_seam"
"""What a process runs to make a file."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Hearing:
    """A file that is heard: where it lies, how long it will be, and what it is."""

    path: Path
    total_bytes: int
    media_type: str


def heard_as_is(facts: Facts) -> bool:
    """Whether browsers play the file itself, all of it, with nothing left to choose."""
    return (
        facts.codec in container_row(facts.container).heard_as_is
        and not any(fault.salvageable for fault in facts.faults)
        and facts.sound_streams == 1
        and not facts.has_video
        and not facts.links
        and facts.bare is None
        and not facts.is_part
    )


def hearing_of(facts: Facts) -> Hearing:
    """The file itself."""
    return Hearing(
        path=Path(facts.path), total_bytes=facts.size_bytes, media_type=container_row(facts.container).media_type
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class _Running:
    """A process that decodes, and how long its file will be."""

    process: "subprocess.Popen[str]"
    total_bytes: int

    @property
    def ended(self) -> bool:
        return self.process.poll() is not None


class Decoders:
    """Decodes files for listening, each once, in processes of their own; what they made is kept up to a size, the
    least recently heard going first."""

    def __init__(self, folder: Path, *, kept_bytes: int = _KEPT_BYTES) -> None:
        self._folder, self._kept_bytes = folder, kept_bytes
        self._lock = Lock()
        self._running: dict[Path, _Running] = {}

    def hearing(self, facts: Facts, name: str) -> Hearing:
        """The decoded file, which may still be growing. name tells it from those of other files and versions.

        Raises DecodeError for what cannot be heard.
        """
        if not facts.usable:
            reason = facts.faults[0].text if facts.faults else "There is no sound in this file."
            raise DecodeError(reason)
        shape = ListeningShape.of(facts.sample_rate, facts.channels, facts.samples, facts.bit_depth)
        return self._begun(
            name, shape, _DECODE, lambda output: request_record(Path(facts.path), facts.choice(), shape, output)
        )

    def seam(self, layout: DiscLayout, name: str) -> Hearing:
        """The sound of a layout, of two neighbours where they meet. name tells it from other ones."""
        return self._begun(name, seam_shape(layout), _SEAM, lambda output: seam_request(layout, output))

    def _begun(self, name: str, shape: ListeningShape, module: str, request: Callable[[Path], str]) -> Hearing:
        output = self._folder / f"{name}.wav"
        with self._lock:
            with suppress(FileNotFoundError):
                # The time of the file says when it was heard last.
                os.utime(output)
            if not output.exists() and output not in self._running:
                self._make_room(shape.total_bytes)
                process = self._start(module, request(output))
                self._running[output] = _Running(process=process, total_bytes=shape.total_bytes)
        return Hearing(path=output, total_bytes=shape.total_bytes, media_type="audio/wav")

    def close(self) -> None:
        """End what is being decoded; its files are not made."""
        with self._lock:
            for running in self._running.values():
                running.process.kill()
                running.process.wait()
            self._running.clear()

    def _start(self, module: str, request: str) -> "subprocess.Popen[str]":
        process = subprocess.Popen(
            [sys.executable, "-m", module],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, cwd=Path(__file__).parents[3],
        )  # fmt: skip
        assert process.stdin is not None
        process.stdin.write(request)
        process.stdin.close()
        return process

    def read(self, hearing: Hearing, start: int, end: int, *, patience_seconds: float) -> bytes:
        """Bytes of the decoded file, as many of those asked for as there are by then, at least one. Raises DecodeError
        where decoding ended before, or does not get there in time."""
        until = time.monotonic() + patience_seconds
        while True:
            piece = self._piece(hearing.path, start, end) or self._piece(working_path(hearing.path), start, end)
            if piece:
                return piece
            self._ask(hearing.path)
            if time.monotonic() > until:
                raise DecodeError("Decoding has not come so far yet. Try again in a moment.")
            time.sleep(_SECONDS_BETWEEN_LOOKS)

    def _piece(self, path: Path, start: int, end: int) -> bytes:
        try:
            with path.open("rb") as file:
                file.seek(start)
                return file.read(end - start)
        except FileNotFoundError:
            return b""

    def _ask(self, output: Path) -> None:
        """Raise what a decoder that ended without its file had to say."""
        with self._lock:
            running = self._running.get(output)
            if running is None or running.process.poll() is None:
                return
            del self._running[output]
            process = running.process
            said = process.stdout.read().strip() if process.stdout else ""
        if process.returncode:
            raise DecodeError(said or "Decoding this file ended in an error. Analyse the track to see its faults.")

    def _make_room(self, wanted_bytes: int) -> None:
        self._running = {path: each for path, each in self._running.items() if not (each.ended and path.exists())}
        kept = sorted(self._folder.glob("*.wav"), key=lambda path: path.stat().st_mtime_ns)
        growing = sum(each.total_bytes for path, each in self._running.items() if path not in kept)
        total = sum(path.stat().st_size for path in kept) + growing + wanted_bytes
        for path in kept:
            if total <= self._kept_bytes:
                return
            total -= path.stat().st_size
            path.unlink(missing_ok=True)
