"""./run faults [ROUNDS | --kills N] [--seed N] [--only FAULT]: hurt the running application and look at what it says then.

Real server, real workers, real sound. Each round starts a batch, perhaps a write and a scan, does one of the
faults at a random moment, does what a user would do about it, and checks rows, files, sound and words.
"""

import argparse
import os
import random
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING

from .hands import hands
from .instance import Instance, small_disk
from .mutations import mutated
from .obstacles import Obstacles
from .pulled import pulled
from .writes import every_write

if TYPE_CHECKING:
    from .rounds import Round


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("rounds", nargs="?", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", help="this fault alone")
    parser.add_argument(
        "--kills", type=int, default=0, metavar="N", help="kill worker, consumer and server N times instead"
    )
    parser.add_argument(
        "--mutated", type=int, metavar="N", help="read so many mutated files, lists, sheets and targets instead"
    )
    parser.add_argument(
        "--writes", type=int, metavar="N", help="let up to N writes of each thing that writes fail in turn instead"
    )
    parser.add_argument(
        "--pulled", type=int, metavar="N", help="pull a stick out N times while it is put in order instead"
    )
    parser.add_argument("--hands", type=int, metavar="N", help="let two press at random, N rounds, instead")
    asked = parser.parse_args()
    if asked.hands:
        return 1 if hands(asked.hands, asked.seed) else 0
    if asked.pulled:
        return 1 if pulled(asked.pulled, asked.seed) else 0
    if asked.writes:
        return every_write(asked.writes, asked.only)
    if asked.mutated:
        return mutated(asked.mutated, asked.seed)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        os.environ["RUMBREL_DATA"] = str(folder / "data")
        os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings.base"
        (folder / "data").mkdir()
        (folder / "roots" / "source").mkdir(parents=True)
        return _run(folder, asked)


def _run(folder: Path, asked: argparse.Namespace) -> int:
    obstacles = Obstacles.made(folder)
    with small_disk(folder / "data", megabytes=120) as can_fill:
        import django

        django.setup()
        from .rounds import OFTEN, Round

        instance = Instance(folder / "data", folder / "roots", folder / "log", obstacles)
        trial = Round(instance, folder / "roots" / "source", random.Random(asked.seed), can_fill=can_fill)
        names = [OFTEN] if asked.kills else [asked.only] if asked.only else list(trial.faults)
        number = failed = 0
        try:
            instance.start()
            trial.prepare()
            while instance.lives and (trial.kills < asked.kills if asked.kills else number < asked.rounds):
                failed += not _right(trial, names[number % len(names)], number + 1)
                number += 1
            if not instance.lives:
                failed += 1
                print("the instance ended by itself")
            instance.end()
            if left := instance.parts():
                failed += 1
                print(f"outlived the end: {left}")
        finally:
            instance.kill_all()
        if failed:
            print((folder / "log").read_text(errors="replace")[-6000:])
        if not can_fill:
            print("The disk was not filled: that needs root.")
        if obstacles is None:
            print("The clock was not moved, and no disk made read-only: that needs a C compiler.")
        killed = f", {trial.kills:,} kills" if asked.kills else ""
        print(f"{number - failed} of {number} rounds right{killed}")
        return 1 if failed else 0


def _right(trial: "Round", name: str, number: int) -> bool:
    began, reasons = time.monotonic(), set[str]()
    try:
        trial.begin()
        trial.hurt(name)
        reasons = set(trial.put_right())
        trial.check()
    except AssertionError as error:
        print(f"round {number}: {name}: FAILED: {error}", flush=True)
        return False
    finally:
        trial.tidy()
    said = f": {'; '.join(sorted(reasons))}" if reasons else ""
    print(f"round {number}: {name}: right, {time.monotonic() - began:.1f} s{said}", flush=True)
    return True


if __name__ == "__main__":
    sys.exit(main())
