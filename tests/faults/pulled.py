"""A stick that is pulled out, or a process that is killed, while a volume's entries are put in order."""

import multiprocessing
import os
import random
import signal
import tempfile
import time
from collections import Counter
from pathlib import Path

from rumbrel.core.bench.volumes import plug
from rumbrel.core.delivery.order import ASIDE, bring_back, home_of, put_in_order
from rumbrel.core.errors import OutputError
from rumbrel.core.places import Volume, list_volume, volume_at, volume_kind_for

_FILES = 40


def _put(root: Path, asked: list[Path]) -> None:
    try:
        put_in_order(_at(root), asked)
    except OutputError:
        # It was pulled out; what is there then is looked at by who pulled it.
        os._exit(3)


def _at(root: Path) -> Volume:
    return volume_at(root, volume_kind_for("stick-8gb"))


def _order(root: Path) -> list[str]:
    return [entry.relative.as_posix() for entry in list_volume(_at(root))]


def pulled(rounds: int, seed: int) -> int:
    """So many rounds: whichever order it is in then, every file is there, once, and the next run ends it. Prints what the
    volume was found in; returns how many rounds went wrong."""
    dice, found, wrong = random.Random(seed), Counter[str](), 0
    with tempfile.TemporaryDirectory() as name:
        root = Path(name, "stick")
        root.mkdir()
        names = [f"{n:02} of the ring.mp3" for n in range(_FILES)]
        for each in names:
            (root / each).write_text(each)
        asked = [Path(each) for each in names]
        put_in_order(_at(root), asked)
        began = time.monotonic()
        put_in_order(_at(root), asked[::-1])
        takes = time.monotonic() - began
        for number in range(rounds):
            before = _order(root)
            dice.shuffle(asked)
            child = multiprocessing.get_context("fork").Process(target=_put, args=(root, list(asked)))
            child.start()
            time.sleep(dice.uniform(0, takes * 1.2))
            if number % 2 and child.pid:
                os.kill(child.pid, signal.SIGKILL)
            else:
                plug(root, plugged=False)
            child.join()
            plug(root, plugged=True)
            there = _order(root)
            state = (
                "cut off, and said so" if any(ASIDE in each for each in there)
                else "in the new order" if there == [str(path) for path in asked]
                else "in the old order" if there == before
                else "in between"
            )  # fmt: skip
            found[state] += 1
            kept = Counter(home_of(Path(each)).as_posix() for each in there) == Counter(names)
            bring_back(_at(root))
            ended = put_in_order(_at(root), asked).ok and _order(root) == [str(path) for path in asked]
            if not (kept and ended):
                wrong += 1
                print(f"round {number + 1}: {'not put in order' if kept else 'a file is lost'}: {there}")
    print(
        f"{rounds - wrong} of {rounds} rounds right: {', '.join(f'{n} {state}' for state, n in sorted(found.items()))}"
    )
    return wrong
