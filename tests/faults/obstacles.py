"""What stands in the way of a process and of those it begins: a clock that moves, a disk that takes no more.

A small library is put before the system's, by whose calls the application writes and reads the time; both sides share
a page of memory. It needs Linux and a C compiler.
"""

import mmap
import os
import shutil
import struct
import subprocess
from pathlib import Path

__all__ = ["Obstacles"]

_SOURCE = Path(__file__).with_name("obstacles.c")
_NUMBERS = struct.Struct("<4q")
_LONGEST_PATH = 4096


class Obstacles:
    """The page: what is in the way of those processes whose environment it is part of."""

    def __init__(self, page: Path) -> None:
        with page.open("r+b") as file:
            self._memory = mmap.mmap(file.fileno(), _NUMBERS.size + _LONGEST_PATH)
        self.path = page

    @classmethod
    def made(cls, folder: Path) -> "Obstacles | None":
        """Compiled into a folder; None where this machine has no compiler."""
        compiler = shutil.which("cc")
        library = folder / "obstacles.so"
        if compiler is None:
            return None
        command = [compiler, "-shared", "-fPIC", "-O1", "-o", str(library), str(_SOURCE), "-ldl"]
        if subprocess.run(command, capture_output=True).returncode:
            return None
        page = folder / "obstacles"
        page.write_bytes(bytes(_NUMBERS.size + _LONGEST_PATH))
        return cls(page)

    @property
    def environment(self) -> dict[str, str]:
        """With this, a process meets them."""
        return {"LD_PRELOAD": str(self.path.with_name("obstacles.so")), "RUMBREL_OBSTACLES": str(self.path)}

    def move_clock(self, seconds: int) -> None:
        """From the time of day, forth or back."""
        self._memory[:8] = struct.pack("<q", seconds)

    def refuse(self, error: int, below: Path, *, let_through: int = 0) -> None:
        """What writes below a folder fails with an error's number, after so many that go well; 0 lets all through. Counts anew."""
        path = os.fsencode(below)
        assert len(path) < _LONGEST_PATH, below
        self._memory[8:32] = struct.pack("<3q", 0, 0, 0)
        self._memory[_NUMBERS.size :] = path.ljust(_LONGEST_PATH, b"\0")
        self._memory[8:32] = struct.pack("<3q", error, let_through, 0)

    def let_through(self) -> int:
        """Take away what refuses writes; returns how many there were, refused ones too."""
        writes = int(struct.unpack("<q", self._memory[24:32])[0])
        self._memory[8:16] = struct.pack("<q", 0)
        return writes
