"""All results of a batch as one archive, streamed: it needs no room of its own."""

import hashlib
import zipfile
from collections.abc import Iterator, Sequence
from io import RawIOBase
from pathlib import Path

from rumbrel.core.workflows.fixity import manifest_line

__all__ = ["stream_archive"]

_READ_BYTES = 1 << 18
_EARLIEST = (1980, 1, 1, 0, 0, 0)
"""What such an archive can state; an older file is given this date."""


class _Spout(RawIOBase):
    """Takes what the archive writes and hands it on."""

    def __init__(self) -> None:
        self._pieces: list[bytes] = []
        self._at = 0

    def writable(self) -> bool:
        return True

    def write(self, piece: bytes) -> int:  # type: ignore[override]
        self._pieces.append(bytes(piece))
        self._at += len(piece)
        return len(piece)

    def tell(self) -> int:
        return self._at

    def drained(self) -> bytes:
        data = b"".join(self._pieces)
        self._pieces.clear()
        return data


def stream_archive(*, files: Sequence[tuple[Path, str]], digests_name: str = "") -> Iterator[bytes]:
    """The bytes of a ZIP of files under their names, stored and not packed: sound does not shrink further.

    A file that has vanished meanwhile is left out. With a digests_name a last entry of that name has the SHA-256 of each
    file as it was sent, as sha256sum reads them.
    """
    spout, digests = _Spout(), ""
    with zipfile.ZipFile(spout, "w", zipfile.ZIP_STORED) as archive:  # type: ignore[arg-type]
        for path, name in files:
            try:
                reading = path.open("rb")
            except OSError:
                continue
            with reading:
                entry = zipfile.ZipInfo.from_file(path, name, strict_timestamps=False)
                entry.date_time = max(entry.date_time, _EARLIEST)
                digest = hashlib.sha256()
                with archive.open(entry, "w", force_zip64=True) as target:
                    while piece := reading.read(_READ_BYTES):
                        target.write(piece)
                        digest.update(piece)
                        yield spout.drained()
            digests += manifest_line(digest.hexdigest(), name)
            yield spout.drained()
        if digests_name:
            archive.writestr(digests_name, digests)
    yield spout.drained()
