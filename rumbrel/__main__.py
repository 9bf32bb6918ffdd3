"""The command `rumbrel`, or `python -m rumbrel`: every command by its word, as ./run has them in a checkout."""

import os
import sys

import rumbrel

WORDS = {"start": "serve"}
"""Words of ./run whose command is called otherwise."""


def main() -> None:
    # The work is shared out to a process a core; matrices that took all cores as well would be in each other's way.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "rumbrel.web.settings.base")
    if sys.argv[1:] == ["--version"]:
        print(f"Rumbrel {rumbrel.__version__}")
        return
    from django.core.management import execute_from_command_line

    word = sys.argv[1] if len(sys.argv) > 1 else "help"
    execute_from_command_line([sys.argv[0], WORDS.get(word, word), *sys.argv[2:]])


if __name__ == "__main__":
    main()
