"""Source folders, their tracks, scans, and the pull list."""

from pathlib import Path

from django.db import models

from rumbrel.core.formats.table import kind_label
from rumbrel.core.inspection import Facts


class SourceFolder(models.Model):
    """A folder on this machine that is read, never written."""

    path = models.TextField(unique=True)
    added_at = models.DateTimeField(auto_now_add=True)

    @property
    def name(self) -> str:
        return Path(self.path).name


class Scan(models.Model):
    """One walk over a source folder in the background."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        FINISHED = "finished"
        STOPPED = "stopped"
        FAILED = "failed"

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, related_name="scans")
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    found = models.PositiveIntegerField(default=0)
    done = models.PositiveIntegerField(default=0)
    passed_over = models.PositiveIntegerField(default=0)
    error = models.TextField(blank=True)
    started_at = models.DateTimeField(auto_now_add=True)

    @property
    def active(self) -> bool:
        return self.state in (self.State.WAITING, self.State.RUNNING)


class Track(models.Model):
    """A file with its facts, as the last scan found them."""

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, related_name="tracks")
    path = models.TextField(unique=True)
    relative = models.TextField()
    title = models.TextField(blank=True)
    artist = models.TextField(blank=True)
    album = models.TextField(blank=True)
    container = models.CharField(max_length=40, blank=True)
    codec = models.CharField(max_length=40, blank=True)
    kind = models.CharField(max_length=40, blank=True)
    lossless = models.BooleanField(default=False)
    sample_rate = models.PositiveIntegerField(default=0)
    bit_depth = models.PositiveSmallIntegerField(null=True)
    channels = models.PositiveSmallIntegerField(default=0)
    samples = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    bitrate_bps = models.BigIntegerField(default=0)
    bitrate_mode = models.CharField(max_length=12, blank=True)
    channel_mode = models.CharField(max_length=20, blank=True)
    sound_streams = models.PositiveSmallIntegerField(default=0)
    has_video = models.BooleanField(default=False)
    lead_samples = models.BigIntegerField(default=0)
    size_bytes = models.BigIntegerField(default=0)
    fault = models.CharField(max_length=30, blank=True)
    fault_fatal = models.BooleanField(default=False)
    problems = models.JSONField(default=list)
    tags = models.JSONField(default=dict)
    covers = models.PositiveSmallIntegerField(default=0)
    modified_ns = models.BigIntegerField(default=0)

    class Meta:
        ordering = ["relative"]

    def take(self, facts: Facts) -> None:
        """Copy the facts into columns that can be searched and sorted."""
        self.container, self.codec, self.lossless = facts.container, facts.codec, facts.lossless
        self.kind = kind_label(facts.container, facts.codec) if facts.codec else ""
        self.sample_rate, self.bit_depth, self.channels = facts.sample_rate, facts.bit_depth, facts.channels
        self.samples, self.seconds, self.bitrate_bps = facts.samples, facts.duration_seconds, facts.bitrate_bps
        self.bitrate_mode, self.channel_mode = facts.bitrate_mode, facts.channel_mode
        self.sound_streams, self.has_video = facts.sound_streams, facts.has_video
        self.lead_samples = facts.lead_samples
        self.size_bytes, self.modified_ns = facts.size_bytes, facts.modified_ns
        # JSON in SQLite cannot hold lone surrogates, which undecodable tags may contain.
        self.tags = {key: _storable(value) for key, value in facts.tags.as_text().items()}
        self.covers = len(facts.tags.covers)
        self.title = _storable(facts.tags.first("title")) or Path(self.relative).stem
        self.artist, self.album = _storable(facts.tags.first("artist")), _storable(facts.tags.first("album"))
        self.problems = [{"code": str(p.code), "text": p.text, "harmless": p.harmless} for p in facts.problems]
        self.fault = str(facts.problems[0].code).replace("-", " ") if facts.problems else ""
        self.fault_fatal = not facts.ok

    @property
    def kbps(self) -> int:
        return round(self.bitrate_bps / 1000)


def _storable(text: str) -> str:
    return text.encode("utf-8", "replace").decode("utf-8")


class Pull(models.Model):
    """A track on the pull list, in the order of pulling."""

    track = models.OneToOneField(Track, on_delete=models.CASCADE, related_name="pull")

    class Meta:
        ordering = ["pk"]
