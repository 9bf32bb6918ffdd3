"""Each thing that writes, with each of its writes failing in turn: the disk is full from then on, or can only be read.

Then the command refuses with a sentence, or what it says it did is there; what was there is as it was or as it is to be;
nothing half-written is seen; and called again it does its work.
"""

import contextlib
import errno
import hashlib
import io
import os
import re
import shutil
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

from PIL import Image

from .obstacles import Obstacles

__all__ = ["every_write"]

_ERRORS = {"full": errno.ENOSPC, "read-only": errno.EROFS}
_RIGHT, _REFUSED, _CRASHED = 0, 1, 70
_PART = re.compile(r"(^|/)\.rumbrel-|\.part$")
_WORDS = re.compile(r"no room|only be read|database could not be used")


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """act writes below a folder what it makes of the sources; prepare what lies there before. also are names that
    may be there besides, where a failure leaves something to be found."""

    act: Callable[[Path, Path], object]
    prepare: Callable[[Path, Path], object] = lambda run, sources: None
    also: str = r"$^"


def every_write(most: int, only: str | None) -> int:
    """Begin anew with the obstacles before the system's calls; 0 where nothing was found."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        obstacles = Obstacles.made(folder)
        if obstacles is None:
            print("No write was made to fail: that needs a C compiler.")
            return 0
        (folder / "run").mkdir()
        own = {"RUMBREL_DATA": str(folder / "run" / "data"), "RUMBREL_ROOTS": str(folder), "HOME": str(folder)}
        words = [sys.executable, "-m", __name__, str(most), *([only] if only else [])]
        return os.spawnve(os.P_WAIT, sys.executable, words, {**os.environ, **own, **obstacles.environment})


def main() -> int:
    """Where the obstacles are before the system's calls already. Words: how many writes of each trial, and which alone."""
    import django

    os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings.base"
    django.setup()
    obstacles = Obstacles(Path(os.environ["RUMBREL_OBSTACLES"]))
    folder = obstacles.path.parent
    _make_sources(folder / "sources")
    print(f"{'':32}  writes  tried")
    chosen = {name: trial for name, trial in _trials().items() if name in sys.argv[2:] or not sys.argv[2:]}
    findings = 0
    for name, trial in chosen.items():
        for text in _Bench(obstacles, name, trial).tried(int(sys.argv[1])):
            findings += 1
            print(text, flush=True)
    print(f"{findings} findings")
    return 1 if findings else 0


def _make_sources(sources: Path) -> None:
    """Two sounds, a list, texts, an image, an installation and a backup of it."""
    from django.core.management import call_command
    from django.db import connections

    from rumbrel.core.inspection import inspect_file
    from rumbrel.core.tags.editing import TagChange
    from rumbrel.core.tags.model import Cover
    from rumbrel.core.workflows.edit_tags import edit_file
    from tests.signals import write_sound

    png = io.BytesIO()
    Image.effect_noise((120, 120), 60).save(png, "PNG")
    for name, seed in (("a.wav", 1), ("b.flac", 2)):
        write_sound(sources / name, 44_100 * 5, seed=seed)
        tags = TagChange(fields={"title": ("Peal",)}, covers=(Cover(media_type="image/png", data=png.getvalue()),))
        edit_file(inspect_file(sources / name), tags)
    (sources / "l.m3u8").write_text("#EXTM3U\na.wav\nb.flac\n")
    (sources / "t.toml").write_text('title = "Days"\n[[tracks]]\ntitle = "Peal"\n[[tracks]]\ntitle = "Toll"\n')
    with contextlib.redirect_stdout(io.StringIO()):
        call_command(
            "disc", "--out", str(sources / "disc"), "--name", "days", str(sources / "a.wav"), str(sources / "b.flac")
        )
        call_command("migrate", verbosity=0)
        connections.close_all()
        call_command("backup", str(sources / "kept.tar"))
    shutil.copytree(os.environ["RUMBREL_DATA"], sources / "data")


def _trials() -> dict[str, Trial]:
    from django.core.management import call_command

    from rumbrel.core.inspection import inspect_file
    from rumbrel.core.tags.editing import TagChange
    from rumbrel.core.workflows.bag import BagFile, make_bag
    from rumbrel.core.workflows.edit_tags import edit_file
    from rumbrel.web.targets.services import keep_target, target_text

    def command(*words: str) -> Trial:
        return Trial(act=lambda run, sources: call_command(*(word.format(run=run, sources=sources) for word in words)))

    def with_data(run: Path, sources: Path) -> None:
        shutil.copytree(sources / "data", run / "data", dirs_exist_ok=True)

    def with_result(run: Path, sources: Path) -> None:
        (run / "out").mkdir()
        (run / "out" / "a.flac").write_bytes(b"what was there")

    def edit(run: Path, sources: Path) -> None:
        edit_file(inspect_file(run / "b.flac"), TagChange(fields={"title": ("Tower",), "comment": ("so " * 9_000,)}))

    def bag(run: Path, sources: Path) -> None:
        make_bag([BagFile(path=sources / "a.wav", name="x/a.wav")], run / "bag", description="Days")

    out, songs = ("--out", "{run}/out"), ("{sources}/a.wav", "{sources}/b.flac")
    disc = ("disc", *out, "--name", "days", "--text", "{sources}/t.toml")
    return {
        "convert": command("convert", *out, "--target", "archive-flac", songs[0]),
        "convert over what is there": replace(
            command("convert", *out, "--target", "archive-flac", "--when-present", "replace", songs[0]), prepare=with_result
        ),
        "convert to several, and report": command(
            "convert", *out, "--targets", "car-mp3,disc-wav", "--report", "{run}/report.csv", songs[0]
        ),
        "carry a list along": command("convert", *out, "--target", "archive-flac", "{sources}/l.m3u8"),
        "playlist": command("playlist", "{sources}/l.m3u8", "{run}/out.xspf"),
        "tags": Trial(act=edit, prepare=lambda run, sources: shutil.copy(sources / "b.flac", run)),
        "bag": Trial(act=bag),
        "disc": command(*disc, *songs),
        "disc as files": command(*disc, "--format", "wav", *songs),
        "data disc": command(*disc, "--format", "iso", *songs),
        "take in": command("takein", "{sources}/disc/days.cue", "--out", "{run}/in", "--target", "archive-flac"),
        "deliver": replace(
            command("deliver", "--volume", "{run}/stick", "--target", "car-mp3", *songs),
            prepare=lambda run, sources: (run / "stick").mkdir(),
        ),
        "target": Trial(act=lambda run, sources: keep_target(text=target_text("car-mp3").replace("name =", "name = \"Own\" #", 1))),
        "backup": replace(command("backup", "{run}/kept.tar"), prepare=with_data),
        "restore": replace(command("restore", "{sources}/kept.tar"), prepare=with_data, also=r"\.?data\..*"),
    }  # fmt: skip


class _Bench:
    """A trial, its folder, and what it makes where nothing is in the way: the digest of each file, "" where it is
    another one each time."""

    def __init__(self, obstacles: Obstacles, name: str, trial: Trial) -> None:
        self._obstacles, self._name, self._trial = obstacles, name, trial
        self._folder = obstacles.path.parent
        self._run, self._sources, self._said = self._folder / "run", self._folder / "sources", self._folder / "said"

    def tried(self, most: int) -> Iterator[str]:
        """Yields findings."""
        self._lay_out()
        self._before = self._files()
        obstacles, sources = self._obstacles, self._digests(self._sources)
        obstacles.refuse(0, self._run)
        ended = self._act()
        writes = obstacles.let_through()
        if ended != _RIGHT:
            yield f"{self._name}: does not do its work: {self._said.read_text()}"
            return
        self._after = self._files()
        self._lay_out()
        # What states its time, in seconds, is another file then.
        time.sleep(1.1)
        self._act()
        again = self._files()
        self._after = {name: digest if again.get(name) == digest else "" for name, digest in self._after.items()}
        numbers = (
            sorted({round(at * (writes - 1) / max(1, most - 1)) for at in range(most)})
            if writes > most
            else range(writes)
        )
        print(f"{self._name:32}  {writes:6}  {len(numbers) * len(_ERRORS):5}", flush=True)
        for kind, error in _ERRORS.items():
            for number in numbers:
                for text in self._judged(kind, error, number):
                    yield f"{self._name}, {kind} from write {number} of {writes}: {text}"
        if self._digests(self._sources) != sources:
            yield f"{self._name}: a source was changed"

    def _lay_out(self) -> None:
        shutil.rmtree(self._run)
        (self._run / "data").mkdir(parents=True)
        self._trial.prepare(self._run, self._sources)

    def _judged(self, kind: str, error: int, number: int) -> Iterator[str]:
        self._lay_out()
        self._obstacles.refuse(error, self._run, let_through=number)
        ended = self._act()
        self._obstacles.let_through()
        said, found = self._said.read_text(errors="replace").strip(), self._files()
        if ended not in (_RIGHT, _REFUSED):
            yield f"ends with {ended}: {said[-900:]}"
        elif ended == _REFUSED and not _WORDS.search(said):
            yield f"does not say why: {said!r}"
        for name, digest in found.items():
            allowed = {self._before.get(name), self._after.get(name)}
            if _PART.search(name):
                if kind == "full":
                    yield f"left half-written: {name}"
            elif digest not in allowed and "" not in allowed and not re.fullmatch(self._trial.also, name):
                yield f"{name} is neither as it was nor as it is to be ({ended}: {said[-300:]})"
        optional = re.compile(f"data/|{self._trial.also}")
        lacks = {name for name in self._after if name not in found and not optional.match(name)}
        if ended == _RIGHT and lacks:
            yield f"says that all is right and lacks {sorted(lacks)}: {said[-300:]}"
        kept = set(found.values())
        if lost := {n for n, d in self._before.items() if n not in found and n in self._after and d not in kept}:
            yield f"lost {sorted(lost)}"
        if ended == _RIGHT:
            return
        if self._act() != _RIGHT:
            yield f"called again it does not do its work: {self._said.read_text(errors='replace')[-600:]}"
        elif left := [name for name in self._files() if _PART.search(name)]:
            yield f"called again it leaves {left}"

    def _act(self) -> int:
        """In a process of its own; what it says is kept."""
        child = os.fork()
        if child:
            return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        ended = _CRASHED
        try:
            said = os.open(self._said, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(said, 1)
            os.dup2(said, 2)
            ended = self._acted()
            sys.stdout.flush()
        finally:
            os._exit(ended)

    def _acted(self) -> int:
        from django.core.management.base import CommandError

        from rumbrel.core.errors import RumbrelError

        try:
            self._trial.act(self._run, self._sources)
        except (CommandError, RumbrelError) as error:
            print(error)
            return _REFUSED
        except SystemExit as error:
            return _RIGHT if not error.code else _REFUSED
        except Exception:  # noqa: BLE001 - whatever else comes out is what is looked for
            traceback.print_exc()
            sys.stderr.flush()
            return _CRASHED
        return _RIGHT

    def _files(self) -> dict[str, str]:
        return self._digests(self._run)

    def _digests(self, folder: Path) -> dict[str, str]:
        """Of every file below; a database is what is in it, and its log may lie beside it."""
        found = {}
        for path in sorted(folder.rglob("*")):
            name = str(path.relative_to(folder))
            if path.is_file() and not path.name.endswith(("-wal", "-shm", "in-use")):
                found[name] = hashlib.sha256(path.read_bytes()).hexdigest()
        return found


if __name__ == "__main__":
    sys.exit(main())
