"""Batches and their items: what was asked, what was foreseen, and what became of it."""

import json
from pathlib import Path

from django.db import models

from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job


class Batch(models.Model):
    """A forecast that was started. It keeps its target, options and steps as they were.

    counts is how many items are in each state, kept as they change. measured says that the levels its
    target asks for are settled. job is the work on it that was started last.
    """

    target_slug = models.CharField(max_length=80)
    target_name = models.CharField(max_length=200, blank=True)
    target = models.JSONField(default=dict)
    destination = models.TextField()
    options = models.JSONField(default=dict)
    track_ids = models.JSONField(default=list)
    planned = models.BooleanField(default=False)
    measured = models.BooleanField(default=False)
    counts = models.JSONField(default=dict)
    bytes_in = models.BigIntegerField(default=0)
    bytes_out = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)
        verbose_name_plural = "batches"

    def __str__(self) -> str:
        return f"Batch {self.pk}: {self.target_name}"


class Item(models.Model):
    """One line of a batch. step is the whole of what was planned, as JSON; share is what is done of it."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        PART = "in part"
        FAILED = "failed"
        SKIPPED = "skipped"
        CANNOT = "cannot"

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="items")
    number = models.PositiveIntegerField(default=0)
    track = models.ForeignKey(Track, on_delete=models.SET_NULL, null=True, related_name="+")
    source = models.TextField()
    title = models.TextField()
    action = models.CharField(max_length=10)
    reason = models.TextField(blank=True)
    output = models.TextField(blank=True)
    step = models.TextField(blank=True)
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
    difference_db = models.FloatField(null=True)
    warnings = models.JSONField(default=list)
    error = models.TextField(blank=True)
    changed = models.PositiveBigIntegerField(default=0)

    class Meta:
        ordering = ("number", "pk")
        indexes = (
            models.Index(fields=("batch", "number")),
            models.Index(fields=("batch", "state", "number")),
            models.Index(fields=("batch", "changed")),
        )

    def __str__(self) -> str:
        return f"{self.title} ({self.state})"

    @property
    def result_path(self) -> Path:
        """Where the result is: output, but for bytes that are no text, which only the step has as they are."""
        return Path(json.loads(self.step)["output"]) if "\\udc" in self.output else Path(self.output)

    @property
    def output_name(self) -> str:
        return Path(self.output).name
