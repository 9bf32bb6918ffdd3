"""Rumbrel's commands, from a checkout."""

from rumbrel.__main__ import main

if __name__ == "__main__":
    main()
