"""What an installation does for itself, and what came of it."""

from django.db import models


class SelfCheck(models.Model):
    """There is one: what the last self-check found (see services.keep_check)."""

    checked_at = models.DateTimeField()
    checks = models.JSONField(default=list)
    growths = models.JSONField(default=list)

    def __str__(self) -> str:
        return f"self-check of {self.checked_at:%Y-%m-%d %H:%M}"


class BackupPlan(models.Model):
    """There is one. Every every_days (0 for never) a backup goes into folder, and the newest keep of them stay. said is what came
    of the last one; drill_said what came of restoring it for a trial, drilled_at when."""

    every_days = models.PositiveSmallIntegerField(default=0)
    folder = models.TextField(blank=True)
    keep = models.PositiveSmallIntegerField(default=7)
    with_files = models.BooleanField(default=False)
    taken_at = models.DateTimeField(null=True)
    path = models.TextField(blank=True)
    drilled_at = models.DateTimeField(null=True)
    drill_said = models.TextField(blank=True)

    def __str__(self) -> str:
        return f"every {self.every_days} days to {self.folder}" if self.every_days else "no schedule"
