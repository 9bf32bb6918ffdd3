"""Django's command line for Rumbrel."""

import os
import sys


def main() -> None:
    # The work is shared out to a process a core; see run.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "rumbrel.web.settings.base")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)


if __name__ == "__main__":
    main()
