"""What is done with tags."""

from .carry_out_edit import carry_out_edit
from .start_edit import EditRefused, start_edit, try_edit_again, undo_edit
from .sweep_undo import sweep_undo

__all__ = ["EditRefused", "carry_out_edit", "start_edit", "sweep_undo", "try_edit_again", "undo_edit"]
