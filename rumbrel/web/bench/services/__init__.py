"""What is done on the bench."""

from .shelf import ShelfDisc, discs_on_shelf, drop_image, shelf_disc
from .take_in_disc import (
    bench_choice,
    change_names,
    choose_names,
    choose_targets,
    contents_of,
    keep_doubtful,
    names_for_disc,
    put_disc_in,
    readings_of,
    start_take_in,
    take_disc_out,
    take_in_disc,
    track_file,
)

__all__ = [
    "ShelfDisc",
    "bench_choice",
    "change_names",
    "choose_names",
    "choose_targets",
    "contents_of",
    "discs_on_shelf",
    "drop_image",
    "keep_doubtful",
    "names_for_disc",
    "put_disc_in",
    "readings_of",
    "shelf_disc",
    "start_take_in",
    "take_disc_out",
    "take_in_disc",
    "track_file",
]
