"""Batches and their items, whose state outlives any process."""

from pathlib import Path

from django.db import models
from django.db.models import Sum

from rumbrel.core.targets import find_target


class Batch(models.Model):
    """A forecast that was started."""

    class State(models.TextChoices):
        RUNNING = "running"
        CANCELLED = "cancelled"
        FINISHED = "finished"

    target_slug = models.CharField(max_length=80)
    place = models.TextField()
    when_present = models.CharField(max_length=10)
    state = models.CharField(max_length=10, choices=State.choices, default=State.RUNNING)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]

    @property
    def target_name(self) -> str:
        return find_target(self.target_slug).name

    @property
    def counts(self) -> dict[str, int]:
        rows = self.items.values_list("state").annotate(n=models.Count("pk"))
        return dict(rows)

    @property
    def total_seconds(self) -> float:
        return self.items.filter(works=True).aggregate(s=Sum("seconds"))["s"] or 0.0

    @property
    def done_seconds(self) -> float:
        """Seconds of sound done, counting the part of what is under way."""
        done = models.F("seconds") * models.F("share")
        return self.items.filter(works=True).aggregate(s=Sum(done))["s"] or 0.0


class Item(models.Model):
    """One line of a batch. share is what is done of it, 0 to 1; worker is the process that has it."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        SKIPPED = "skipped"
        REFUSED = "refused"

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="items")
    source = models.TextField()
    title = models.TextField()
    action = models.CharField(max_length=10)
    reason = models.TextField(blank=True)
    output = models.TextField(blank=True)
    replaces = models.BooleanField(default=False)
    works = models.BooleanField(default=False)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    share = models.FloatField(default=0)
    seconds = models.FloatField(default=0)
    bytes_in = models.BigIntegerField(default=0)
    bytes_after = models.BigIntegerField(default=0)
    bytes_out = models.BigIntegerField(default=0)
    kbps_in = models.PositiveIntegerField(default=0)
    kbps_out = models.PositiveIntegerField(default=0)
    now = models.CharField(max_length=80, blank=True)
    after = models.CharField(max_length=80, blank=True)
    checked = models.BooleanField(default=False)
    bit_exact = models.BooleanField(default=False)
    warnings = models.JSONField(default=list)
    error = models.TextField(blank=True)
    worker = models.CharField(max_length=60, blank=True)

    class Meta:
        ordering = ["pk"]

    @property
    def output_name(self) -> str:
        return Path(self.output).name
