"""What is done with tags."""

from .carry_out_edit import carry_out_edit
from .start_edit import EditRefused, start_edit, try_edit_again, undo_edit

__all__ = ["EditRefused", "carry_out_edit", "start_edit", "try_edit_again", "undo_edit"]
