"""What is done with discs."""

from .change_disc import (
    Changed,
    change_disc,
    choose_speed,
    follow_list,
    lay_out_list,
    list_ahead,
    take_offer,
    undo_change,
)
from .copy_disc import carry_out_copy, copy_folder, settle_copy, start_copy
from .fill_disc import Filling, add_tracks, filling_for, listed_filling
from .hear_join import hear_join
from .lay_out_sheet import lay_out_imported, lay_out_sheet
from .lose_lists import discs_refuse, discs_said, settle_discs
from .measure_sounds import measure_sounds, start_measuring
from .plan_layout import PlannedDisc, plan_layout
from .show_image import FORMS, PlayedTrack, burning_page, image_files, make_flac, make_wav, play_track
from .tray import Tray, ask_to_open, choose_pace, choose_recorder, erase_disc, put_in, take_out, tray_of
from .write_disc import disc_folder, image_name, media_check, settle_write, start_write, write_disc

__all__ = [
    "FORMS",
    "Changed",
    "Filling",
    "PlannedDisc",
    "PlayedTrack",
    "Tray",
    "add_tracks",
    "ask_to_open",
    "burning_page",
    "carry_out_copy",
    "change_disc",
    "choose_pace",
    "choose_recorder",
    "choose_speed",
    "copy_folder",
    "disc_folder",
    "discs_refuse",
    "discs_said",
    "erase_disc",
    "filling_for",
    "follow_list",
    "image_files",
    "image_name",
    "lay_out_list",
    "hear_join",
    "lay_out_imported",
    "lay_out_sheet",
    "list_ahead",
    "listed_filling",
    "make_flac",
    "make_wav",
    "measure_sounds",
    "media_check",
    "plan_layout",
    "play_track",
    "put_in",
    "settle_copy",
    "settle_discs",
    "settle_write",
    "start_copy",
    "start_measuring",
    "start_write",
    "take_offer",
    "take_out",
    "tray_of",
    "undo_change",
    "write_disc",
]
