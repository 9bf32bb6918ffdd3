"""./run build: make the wheel and the source archive below dist/, and try the wheel in a fresh environment."""

import os
import re
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import time
import urllib.request
import venv
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
_SECONDS_TO_START = 60


class BuildError(Exception):
    """The wheel was not made, or does not work; says which step, and what it printed."""


def build(folder: Path) -> Path:
    """The wheel and the source archive, into a folder; returns the wheel."""
    _ran([sys.executable, "-m", "hatchling", "build", "-d", str(folder)], cwd=ROOT)
    [wheel] = folder.glob("rumbrel-*.whl")
    [_] = folder.glob("rumbrel-*.tar.gz")
    return wheel


def try_wheel(wheel: Path) -> list[str]:
    """Install it into an environment of its own, in an empty folder, and use it there: its command, a conversion, the
    pages. The packages that it needs are those of this environment. Returns what was tried."""
    with tempfile.TemporaryDirectory() as name:
        place = Path(name).resolve()
        venv.create(place / "venv", with_pip=True)
        python = place / "venv" / "bin" / "python"
        _ran([str(python), "-m", "pip", "install", "--quiet", "--no-index", "--no-deps", str(wheel)], cwd=place)
        [site] = (place / "venv").glob("lib/python*/site-packages")
        (site / "packages.pth").write_text(sysconfig.get_path("purelib"))
        home = {"HOME": str(place), "PATH": os.environ["PATH"], "RUMBREL_ROOTS": str(place)}
        command = str(place / "venv" / "bin" / "rumbrel")
        tried = ["rumbrel help"]
        said = _ran([command, "help"], cwd=place, environment=home)
        if "inspect" not in said:
            raise BuildError(f"rumbrel help does not list the commands: {said[:300]}")
        _sound(place / "a.wav")
        for words in (
            ["inspect", "a.wav"],
            ["convert", "--target", "car-mp3", "--out", "made", "a.wav"],
            ["doctor", "--stopped"],
        ):
            _ran([command, *words], cwd=place, environment=home, fine=(0, 1) if words[0] == "doctor" else (0,))
            tried.append(f"rumbrel {words[0]}")
        if not list((place / "made").rglob("*.mp3")):
            raise BuildError("rumbrel convert left no result")
        tried += _pages(command, place, {**home, "RUMBREL_PORT": "0"})
        if list(site.rglob("*.sqlite3")) or not (place / ".local" / "share" / "rumbrel" / "rumbrel.sqlite3").is_file():
            raise BuildError("the data does not lie where a user's data belongs")
        return tried


def _sound(path: Path) -> None:
    import numpy as np
    import soundfile

    soundfile.write(path, np.sin(np.arange(44_100) / 9) * 0.3, 44_100, "PCM_16")


def _pages(command: str, place: Path, environment: dict[str, str]) -> list[str]:
    """Start it, and read a page, what the page is made with, and the guide."""
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        environment["RUMBREL_PORT"] = str(probe.getsockname()[1])
    address = f"http://127.0.0.1:{environment['RUMBREL_PORT']}"
    with (place / "log").open("wb") as log:
        server = subprocess.Popen([command, "start"], cwd=place, env=environment, stdout=log, stderr=log)
        try:
            until = time.monotonic() + _SECONDS_TO_START
            while "Rumbrel is at" not in (place / "log").read_text():
                if server.poll() is not None or time.monotonic() > until:
                    raise BuildError(f"rumbrel start: {(place / 'log').read_text()[-1000:]}")
                time.sleep(0.2)
            pages = ["/", "/guide/", "/guide/discs/", "/targets/"]
            whole = "".join(_read(address + each) for each in pages)
            parts = set(re.findall(r'(?:href|src)="(/static/[^"]+|/guide/pictures/[^"]+)"', whole))
            if not any(each.endswith(".png") for each in parts) or not any(each.endswith(".css") for each in parts):
                raise BuildError(f"the pages have no styles or no pictures: {sorted(parts)}")
            for each in sorted(parts):
                _read(address + each)
            return [f"GET {each}" for each in (*pages, *sorted(parts))]
        finally:
            server.terminate()
            server.wait(timeout=60)


def _read(address: str) -> str:
    try:
        with urllib.request.urlopen(address, timeout=20) as answer:  # noqa: S310 - our own server
            return str(answer.read().decode(errors="replace"))
    except OSError as error:
        raise BuildError(f"{address}: {error}") from error


def _ran(
    command: list[str], *, cwd: Path, environment: dict[str, str] | None = None, fine: tuple[int, ...] = (0,)
) -> str:
    ended = subprocess.run(command, cwd=cwd, env=environment, capture_output=True, text=True)
    if ended.returncode not in fine:
        raise BuildError(f"{' '.join(command)}: {(ended.stderr or ended.stdout)[-1000:]}")
    return ended.stdout


def main() -> int:
    folder = ROOT / "dist"
    shutil.rmtree(folder, ignore_errors=True)
    try:
        wheel = build(folder)
        for line in try_wheel(wheel):
            print(f"passed: {line}")
    except BuildError as error:
        print(error, file=sys.stderr)
        return 1
    print(f"{wheel} ({wheel.stat().st_size / 1e6:.1f} MB)")
    return 0


if __name__ == "__main__":
    sys.exit(main())
