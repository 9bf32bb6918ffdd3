"""Discs: a playlist on a medium, and what became of writing it."""

from pathlib import Path

from django.db import models

from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.models import Playlist


class Disc(models.Model):
    """A playlist laid out. job is the last write.

    What stands on a disc is kept with the write: written is the layout as it was then, verdicts are its
    tracks', written_mark tells whether the layout is still the same.
    """

    class State(models.TextChoices):
        LAID_OUT = "laid out"
        WRITTEN = "written"
        FAILED = "failed"
        STOPPED = "stopped"

    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="discs")
    medium_key = models.CharField(max_length=20, default="80")
    gap_seconds = models.PositiveSmallIntegerField(default=2)
    speed = models.PositiveSmallIntegerField(default=8)
    state = models.CharField(max_length=10, choices=State.choices, default=State.LAID_OUT)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    error = models.TextField(blank=True)
    image_path = models.TextField(blank=True)
    written = models.JSONField(default=dict)
    written_mark = models.CharField(max_length=64, blank=True)
    verdicts = models.JSONField(default=list)
    simulated_seconds = models.FloatField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"disc {self.pk}"

    @property
    def busy(self) -> bool:
        return self.job is not None and self.job.active

    @property
    def proved(self) -> bool:
        """Whether what was written last reads back as it was to be."""
        return bool(self.verdicts) and all(verdict["equal"] for verdict in self.verdicts)

    @property
    def image_name(self) -> str:
        return Path(self.image_path).name
