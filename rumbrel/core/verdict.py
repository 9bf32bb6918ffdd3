"""The verdicts of every check."""

from enum import StrEnum

__all__ = ["Verdict"]


class Verdict(StrEnum):
    """doubtful says that it may be used, and that a person should look; not applicable, that there was nothing to check."""

    PASSED = "passed"
    DOUBTFUL = "doubtful"
    FAILED = "failed"
    NOT_APPLICABLE = "not applicable"
