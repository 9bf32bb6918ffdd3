"""Batches and their items: what was asked, what was foreseen, and what became of it."""

import json
from pathlib import Path
from urllib.parse import urlencode

from django.db import models

from rumbrel.core.figures import figure
from rumbrel.web.collection.models import SourceFolder, Track
from rumbrel.web.jobs.models import Job


class Batch(models.Model):
    """A forecast that was started. It keeps its targets, options and steps as they were.

    target_name is what its targets are called together; destination is the folder that holds all results, "" where
    they lie beside their sources. in_step is what it was started by, where nobody pressed for it. aside_folder is where its originals are to be moved. counts is how many items are in each state, kept as they change. held says that it is a forecast alone, and begins when it is
    started from its page. measured says that the levels its target asks for are settled. job is the work on it that was started last.
    """

    target_name = models.TextField(blank=True)
    targets = models.JSONField(default=list)
    destination = models.TextField(blank=True)
    options = models.JSONField(default=dict)
    track_ids = models.JSONField(default=list)
    planned = models.BooleanField(default=False)
    held = models.BooleanField(default=False)
    measured = models.BooleanField(default=False)
    counts = models.JSONField(default=dict)
    bytes_in = models.BigIntegerField(default=0)
    bytes_out = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    in_step = models.ForeignKey("KeptInStep", on_delete=models.SET_NULL, null=True, related_name="batches")
    aside_folder = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)
        verbose_name_plural = "batches"

    def __str__(self) -> str:
        return f"Batch {self.pk}: {self.target_name}"

    @property
    def shown_state(self) -> str:
        """As the screens say it: a forecast until it was started."""
        if self.held and self.planned:
            return "forecast"
        return str(self.job.shown_state) if self.job else ""

    @property
    def counts_in_order(self) -> list[tuple[str, int]]:
        """(state, how many items are in it), in the order of the states."""
        return [(state, self.counts[state]) for state in Item.State.values if self.counts.get(state)]

    @property
    def failed_again(self) -> int:
        """How many of its results failed when they were checked again."""
        return self.items.exclude(verify_error="").count()


class Item(models.Model):
    """One line of a batch. step is the whole of what was planned, as JSON; share is what is done of it. samples_in and
    samples_out are those of source and result as its check counted them, digest that of the samples where they are equal. verified_at is
    when its result was compared once more, and verify_error what was wrong then."""

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
    target_slug = models.CharField(max_length=80, blank=True)
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
    digest = models.CharField(max_length=64, blank=True)
    samples_in = models.BigIntegerField(default=0)
    samples_out = models.BigIntegerField(default=0)
    difference_db = models.FloatField(null=True)
    compared_samples = models.BigIntegerField(default=0)
    worst_seconds = models.FloatField(null=True)
    read_by = models.CharField(max_length=120, blank=True)
    warnings = models.JSONField(default=list)
    error = models.TextField(blank=True)
    may_pass = models.BooleanField(default=False)
    sha256 = models.CharField(max_length=64, blank=True)
    identical_file = models.BooleanField(default=False)
    verified_at = models.DateTimeField(null=True)
    verify_error = models.TextField(blank=True)
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
    def proof(self) -> str:
        """What its check compared, in a sentence."""
        if not self.checked:
            return ""
        if self.action == "copy":
            return "Copied, read back from the disk and compared byte for byte, before its own tags were written."
        said = f"Decoded again: {self.samples_out:,} samples of {self.samples_in:,}, with the facts that were forecast."
        said += f" Decoders: {self.read_by}." if self.read_by else ""
        if self.digest:
            return f"{said} Every sample is the source's; digest {self.digest}."
        if self.difference_db is not None:
            compared = f"{self.compared_samples:,} samples" if self.compared_samples else "some stretches"
            text = f"{said} Compared with the source over {compared}: what differs is {figure(self.difference_db, '.0f')} dB"
            return f"{text}, nearest to its limit at {self.worst_clock}." if self.worst_clock else f"{text}."
        return said

    @property
    def worst_clock(self) -> str:
        """Where the result is furthest from its source: minutes and seconds, "" where nothing is known of it."""
        if self.worst_seconds is None:
            return ""
        return f"{int(self.worst_seconds) // 60}:{int(self.worst_seconds) % 60:02d}"

    @property
    def hear_from(self) -> int:
        """A second of the source a little before that place, so that it can be heard coming."""
        step = json.loads(self.step) if self.step else {}
        cut, rate = step.get("treatment", {}).get("start_sample", 0), step.get("source", {}).get("sample_rate", 0)
        return max(0, int((self.worst_seconds or 0.0) + (cut / rate if rate else 0.0)) - 3)

    @property
    def notes(self) -> list[str]:
        """What there is to know of a result; a line that failed has its error instead."""
        return [] if self.state == self.State.FAILED else [warning["text"] for warning in self.warnings]

    @property
    def hear_query(self) -> str:
        """The query of the comparison that begins at that place; "" where there is none to lead to. A refused result is
        made again to be heard, since it got no name."""
        if not self.worst_clock or not self.track_id:
            return ""
        setting = f"item:{self.pk}" if self.result else f"target:{self.target_slug}"
        return urlencode({"track": self.track_id, "start": self.hear_from, "setting": setting}, safe=":")

    @property
    def verdict(self) -> str:
        """What the last check found, in a word or two; "" where nothing was checked."""
        if self.verify_error:
            return "failed when checked again"
        if not self.checked:
            return ""
        return "identical file" if self.identical_file else "bit-exact" if self.bit_exact else "passed"

    @property
    def result(self) -> str:
        """Where its result is; "" where there is none."""
        return self.output if self.state in (self.State.DONE, self.State.PART) else ""

    @property
    def output_name(self) -> str:
        return Path(self.output).name


class MovedOriginal(models.Model):
    """An original that was moved aside, and where from. Paths are as JSON has them, so that all bytes come back."""

    batch = models.ForeignKey(Batch, on_delete=models.CASCADE, related_name="aside")
    source = models.JSONField()
    output = models.JSONField()

    class Meta:
        ordering = ("pk",)

    def __str__(self) -> str:
        return f"{self.source} in {self.output}"


COVERAGES = {
    "tracks": "these tracks", "folders": "the folders of these tracks", "all": "the whole source folder",
}  # fmt: skip
"""What may be kept in sync, the least first."""


class KeptInStep(models.Model):
    """A source folder whose results are kept up to date: what is new or changed there is made again. covers says whether that is
    all of it, some folders in it (directories, as tracks have them) or some tracks. gone are the results whose originals
    went; lacking are the originals, by their places in the folder, that could not be made, each with the reason. Every digest_days,
    where there are any, the originals' bytes are compared with those that the results were made of, last at digested_at."""

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, related_name="+")
    target_name = models.TextField()
    targets = models.JSONField(default=list)
    options = models.JSONField(default=dict)
    covers = models.CharField(max_length=10, choices=tuple(COVERAGES.items()), default="all")
    directories = models.JSONField(default=list)
    track_ids = models.JSONField(default=list)
    digest_days = models.PositiveSmallIntegerField(default=0)
    digested_at = models.DateTimeField(null=True)
    gone = models.JSONField(default=list)
    lacking = models.JSONField(default=list)
    looked_at = models.DateTimeField(null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)
        verbose_name_plural = "kept in sync"

    def __str__(self) -> str:
        return f"{self.folder} for {self.target_name}"


class TrackChoice(models.Model):
    """What a track on the pull list is to have otherwise than its batch (see wishes.Choice)."""

    owner = models.CharField(max_length=150, blank=True)
    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="+")
    left_out = models.BooleanField(default=False)
    not_for = models.JSONField(default=list)
    target_slug = models.CharField(max_length=80, blank=True)
    name = models.CharField(max_length=500, blank=True)
    fields = models.JSONField(default=list)
    bare = models.BooleanField(default=False)
    cover = models.TextField(blank=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=("owner", "track"), name="one_choice_a_track"),)

    def __str__(self) -> str:
        return f"choice for track {self.track_id}"


class MeasuredSpeed(models.Model):
    """How fast this machine was at a kind of work: seconds of sound, and of one core's time for them.

    work is the key of an encoding, or what is done instead of encoding.
    """

    work = models.CharField(max_length=40, unique=True)
    sound_seconds = models.FloatField(default=0)
    work_seconds = models.FloatField(default=0)

    def __str__(self) -> str:
        return f"{self.work}: {self.sound_seconds:.0f} s in {self.work_seconds:.0f} s"
