"""./run measure [NAME ...]: figures of the engine and of the web, side by side in one run."""

import argparse
import os
import sys

from . import engine, machines, screens, start


def main() -> None:
    known = (*engine.ENCODERS, *engine.MEASURES, *screens.MEASURES, *start.MEASURES, *machines.MEASURES)
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument(
        "names",
        nargs="*",
        choices=[[], *known, *engine.REMADE],
        metavar="NAME",
        help=", ".join((*known, *engine.REMADE)),
    )
    names = parser.parse_args().names or list(known)
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}")
    engine.run(names)
    screens.run(names)
    start.run(names)
    machines.run(names)


if __name__ == "__main__":
    main()
