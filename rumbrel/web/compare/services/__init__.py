"""What is done with comparisons."""

from .blind_test import answer_trial, start_test
from .make_comparison import carry_out_comparison, comparison_folder, start_comparison, voices_offered

__all__ = [
    "answer_trial",
    "carry_out_comparison",
    "comparison_folder",
    "start_comparison",
    "start_test",
    "voices_offered",
]
