"""Files, lists, sheets and targets with bytes changed, left out and doubled: none may crash, hang, or lead outside.

Each process of a crew takes some thousands; one that dies or takes longer than ten seconds over one is a finding, and so is
whatever is raised that is no sentence for the user.
"""

import os
import random
import signal
import tempfile
import time
import traceback
from collections import Counter
from collections.abc import Callable, Mapping
from pathlib import Path

from rumbrel.core.crew import Crew, Death, Tell, default_jobs
from rumbrel.core.disc.cue_sheet import parse_cue_sheet
from rumbrel.core.errors import RumbrelError
from rumbrel.core.inspection import inspect_file
from rumbrel.core.playlists import read_list
from rumbrel.core.targets.parsing import parse_target
from rumbrel.core.targets.writing import target_toml
from tests.signals import convert_one, write_framed, write_sound

__all__ = ["mutated"]

_LONGEST_SECONDS = 10
_OF_A_TASK = 500
_TARGETS = ("archive-flac", "car-mp3", "pocket-aac", "open-opus", "open-vorbis", "archive-wavpack", "disc-aiff")
_LISTS = {
    "m3u8": "#EXTM3U\n#EXTINF:123,Venning - Größe\na/b.flac\n../c.mp3\nhttp://tower.example/s\n",
    "m3u": "a.mp3\nC:\\\\bells\\\\b.mp3\n",
    "pls": "[playlist]\nNumberOfEntries=2\nFile1=a.flac\nTitle1=A\nLength1=60\nFile2=b.wav\nVersion=2\n",
    "xspf": '<?xml version="1.0"?><playlist version="1" xmlns="http://xspf.org/ns/0/"><trackList><track><location>a.flac'
    "</location><title>A</title><duration>1000</duration></track></trackList></playlist>",
    "cue": 'PERFORMER "The Trust"\nTITLE "Days"\nFILE "days.flac" WAVE\n  TRACK 01 AUDIO\n    TITLE "Peal"\n    ISRC XA1002600001\n'
    '    INDEX 00 00:00:00\n    INDEX 01 00:02:00\n  TRACK 02 AUDIO\n    PREGAP 00:02:00\n    INDEX 01 03:00:74\n',
}  # fmt: skip


def mutated(count: int, seed: int) -> int:
    """Read so many; 0 where nothing was found."""
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        whole = _whole(folder / "whole")
        tasks = [(seed * 1_000_003 + number, min(_OF_A_TASK, count - number), str(folder), whole)
                 for number in range(0, count, _OF_A_TASK)]  # fmt: skip
        found: list[str] = []
        kinds: Counter[str] = Counter()
        with Crew(_read_some, tasks, jobs=default_jobs(), lost=_lost) as crew:
            for event in crew.results():
                if event is not None:
                    found += event.result[0]
                    kinds.update(event.result[1])
    for text in found[:20]:
        print(text)
    said = ", ".join(f"{number:,} {kind}" for kind, number in sorted(kinds.items()))
    print(f"{sum(kinds.values()):,} read in {time.monotonic() - began:.0f} s ({said}): {len(found)} findings")
    return 1 if found or sum(kinds.values()) < count else 0


Task = tuple[int, int, str, Mapping[str, bytes]]
Found = tuple[list[str], dict[str, int]]


def _whole(folder: Path) -> dict[str, bytes]:
    """What is mutated, by the ending of its name."""
    wav = write_sound(folder / "w.wav", 6_000)
    whole = {"wav": wav.read_bytes()}
    for kind in ("caf", "au", "w64"):
        whole[kind] = write_sound(folder / f"w.{kind}", 6_000).read_bytes()
    for codec, muxer, kind in (
        ("aac", "matroska", "mkv"),
        ("wmav2", "asf", "wma"),
        ("tta", "tta", "tta"),
        ("aac", "adts", "aac"),
    ):
        path = write_framed(folder / f"w.{kind}", codec, muxer=muxer, rate=44_100, seconds=0.2)
        whole[kind] = path.read_bytes()
    for target in _TARGETS:
        path = Path(convert_one(wav, target, folder / target).step.output)
        whole[path.suffix[1:]] = path.read_bytes()
    from rumbrel.core.targets import find_target

    texts = {kind: text.encode() for kind, text in _LISTS.items()}
    return whole | texts | {"toml": target_toml(find_target("car-older")).encode()}


def _lost(task: Task, death: Death) -> Found:
    return [f"a process died {death.tries} times over the {task[1]} of seed {task[0]}"], {}


def _too_long(signum: int, frame: object) -> None:
    raise TimeoutError(f"longer than {_LONGEST_SECONDS} s")


def _read_some(task: Task, tell: Tell) -> Found:
    seed, count, folder, whole = task
    dice, found, kinds = random.Random(seed), [], Counter[str]()
    signal.signal(signal.SIGALRM, _too_long)
    with tempfile.TemporaryDirectory(dir=folder) as name:
        for number in range(count):
            kind = dice.choice(list(whole))
            path = Path(name, f"m.{kind}")
            data = _changed(whole[kind], dice)
            path.write_bytes(data)
            signal.alarm(_LONGEST_SECONDS)
            try:
                _READERS.get(kind, _read_file)(path, data)
            except RumbrelError as error:
                if not str(error):
                    found.append(f"{kind}, seed {seed} number {number}: a refusal without a word")
            except Exception as error:  # noqa: BLE001 - whatever it is, it is a finding
                where = traceback.extract_tb(error.__traceback__)[-1]
                found.append(
                    f"{kind}, seed {seed} number {number}: {type(error).__name__}: {error} ({where.filename}:{where.lineno})"
                )
            finally:
                signal.alarm(0)
            kinds[kind] += 1
            tell(number / count)
        for path in Path(name).iterdir():
            if not path.name.startswith("m."):
                found.append(f"seed {seed}: {path.name} was left")
    return found, dict(kinds)


def _changed(data: bytes, dice: random.Random) -> bytes:
    """Bytes changed, a stretch left out, doubled or filled, the end cut off; mostly near the head, where headers are."""
    changed = bytearray(data)
    for _ in range(dice.randrange(1, 6)):
        at = dice.randrange(min(len(changed), 3_000) or 1) if dice.random() < 0.8 else dice.randrange(len(changed) or 1)
        length = dice.randrange(1, 40)
        way = dice.random()
        if way < 0.6 and changed:
            changed[at % len(changed)] = dice.randrange(256)
        elif way < 0.7:
            del changed[at : at + length]
        elif way < 0.8:
            changed[at:at] = changed[at : at + length] * dice.randrange(1, 5)
        elif way < 0.95:
            changed[at : at + length] = bytes([dice.choice((0, 255, 10, 34, 0x80))]) * length
        else:
            del changed[at:]
    return bytes(changed)


def _read_file(path: Path, data: bytes) -> None:
    facts = inspect_file(path)
    assert facts.samples >= 0 and (facts.usable or facts.faults), "neither usable nor faulty"
    assert facts.path == str(path), "facts of another file"


def _read_list(path: Path, data: bytes) -> None:
    for entry in read_list(path).entries:
        os.fspath(str(entry.path) if hasattr(entry, "path") else str(entry))


def _read_sheet(path: Path, data: bytes) -> None:
    sheet = parse_cue_sheet(data.decode("utf-8", "replace"))
    assert all(track.start_sector >= 0 for track in sheet.tracks), "a track before the disc"


def _read_target(path: Path, data: bytes) -> None:
    target = parse_target(data.decode("utf-8", "replace"), slug="mutated")
    assert parse_target(target_toml(target), slug="mutated") == target, "written out, it is another"


_READERS: dict[str, Callable[[Path, bytes], None]] = {
    **dict.fromkeys(("m3u8", "m3u", "pls", "xspf"), _read_list), "cue": _read_sheet, "toml": _read_target,
}  # fmt: skip
