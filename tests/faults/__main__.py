"""./run faults [ROUNDS] [--seed N] [--only FAULT]: hurt the running application and look at what it says then.

Real server, real workers, real sound. Each round starts a batch, perhaps a write and a scan, does one of the
faults at a random moment, does what a user would do about it, and checks rows, files, sound and words.
"""

import argparse
import os
import random
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from .instance import Instance, small_disk
from .mutations import mutated


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("rounds", nargs="?", type=int, default=20)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", help="this fault alone")
    parser.add_argument(
        "--mutated", type=int, metavar="N", help="read so many mutated files, lists, sheets and targets instead"
    )
    asked = parser.parse_args()
    if asked.mutated:
        return mutated(asked.mutated, asked.seed)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name).resolve()
        os.environ["RUMBREL_DATA"] = str(folder / "data")
        os.environ["DJANGO_SETTINGS_MODULE"] = "rumbrel.web.settings.base"
        (folder / "data").mkdir()
        (folder / "roots" / "source").mkdir(parents=True)
        return _run(folder, asked.rounds, asked.seed, asked.only)


def _run(folder: Path, rounds: int, seed: int, only: str | None) -> int:
    with small_disk(folder / "data", megabytes=120) as can_fill:
        import django

        django.setup()
        from .rounds import Round

        dice = random.Random(seed)
        instance = Instance(folder / "data", folder / "roots", folder / "log")
        trial = Round(instance, folder / "roots" / "source", dice, can_fill=can_fill)
        told: Counter[str] = Counter()
        failed = 0
        try:
            instance.start()
            trial.prepare()
            names = [only] if only else list(trial.faults)
            for number in range(1, rounds + 1):
                name = names[(number - 1) % len(names)]
                began = time.monotonic()
                try:
                    trial.begin()
                    trial.hurt(name)
                    reasons = trial.put_right()
                    trial.check()
                except AssertionError as error:
                    failed += 1
                    print(f"round {number}: {name}: FAILED: {error}", flush=True)
                    if not instance.lives:
                        break
                else:
                    told.update(reasons)
                    said = f": {'; '.join(sorted(set(reasons)))}" if reasons else ""
                    print(f"round {number}: {name}: right, {time.monotonic() - began:.1f} s{said}", flush=True)
                trial.tidy()
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
        print(f"{rounds - failed} of {rounds} rounds right")
        return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
