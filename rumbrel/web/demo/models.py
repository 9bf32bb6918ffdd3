"""The tour of the demo: where somebody is in it, and that he left it."""

from django.db import models


class Tour(models.Model):
    """owner is whose it is, "" on a machine without accounts. It is shown until it was left, and never again."""

    owner = models.CharField(max_length=150, unique=True, blank=True)
    step = models.PositiveSmallIntegerField(default=0)
    left = models.BooleanField(default=False)

    def __str__(self) -> str:
        return "left" if self.left else f"at step {self.step + 1}"
