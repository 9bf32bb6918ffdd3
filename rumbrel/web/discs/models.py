"""Discs: a playlist on a medium, and what became of writing it."""

from pathlib import Path

from django.db import models

from rumbrel.web.playlists.models import Playlist


class Disc(models.Model):
    class State(models.TextChoices):
        LAID_OUT = "laid out"
        WAITING = "waiting"
        RUNNING = "running"
        WRITTEN = "written"
        FAILED = "failed"
        STOPPED = "stopped"

    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="discs")
    medium_key = models.CharField(max_length=20, default="80")
    gap_seconds = models.PositiveSmallIntegerField(default=2)
    speed = models.PositiveSmallIntegerField(default=8)
    state = models.CharField(max_length=10, choices=State.choices, default=State.LAID_OUT)
    step = models.CharField(max_length=30, blank=True)
    share = models.FloatField(default=0)
    worker = models.CharField(max_length=60, blank=True)
    error = models.TextField(blank=True)
    image_path = models.TextField(blank=True)
    verdicts = models.JSONField(default=list)
    simulated_seconds = models.FloatField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    @property
    def busy(self) -> bool:
        return self.state in (self.State.WAITING, self.State.RUNNING)

    @property
    def image_name(self) -> str:
        return Path(self.image_path).name
