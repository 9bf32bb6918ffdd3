"""Discs: a playlist on a medium, what becomes of writing it, and the stand-in recorders that write."""

from pathlib import Path

from django.db import models

from rumbrel.core.disc.design import DiscDesign
from rumbrel.core.disc.media import medium_for
from rumbrel.core.records import from_record
from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job
from rumbrel.web.playlists.models import Playlist
from rumbrel.web.ui.seen import mark_of


class Disc(models.Model):
    """A playlist laid out. plan is the record of its design, revision grows with each change of it, and parts says of
    how many discs that were made of the list this is one. job is the last write, measuring the last look at its sounds.

    What stands on a disc is kept with the write: written is the layout as it was then, verdicts are its
    tracks', written_mark tells whether the layout is still the same. stage is what the recorder is at: step, track,
    share. copies_left are those that are still to be written of it, trial_said how the last test write went.
    """

    class State(models.TextChoices):
        LAID_OUT = "laid out"
        WRITTEN = "written"
        FAILED = "failed"
        STOPPED = "stopped"

    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="discs")
    name = models.CharField(max_length=200, blank=True)
    plan = models.JSONField(default=dict)
    revision = models.PositiveIntegerField(default=0)
    parts = models.PositiveSmallIntegerField(default=1)
    state = models.CharField(max_length=10, choices=State.choices, default=State.LAID_OUT)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    measuring = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    error = models.TextField(blank=True)
    image_path = models.TextField(blank=True)
    written = models.JSONField(default=dict)
    written_mark = models.CharField(max_length=64, blank=True)
    verdicts = models.JSONField(default=list)
    simulated_seconds = models.FloatField(default=0)
    recorder_key = models.CharField(max_length=20, default="quick")
    trial = models.BooleanField(default=False)
    trial_said = models.TextField(blank=True)
    stage = models.JSONField(default=dict)
    copies_left = models.PositiveSmallIntegerField(default=0)
    copies_made = models.PositiveSmallIntegerField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.name or f"disc {self.pk}"

    @property
    def design(self) -> DiscDesign:
        return from_record(DiscDesign, self.plan)

    @property
    def track_count(self) -> int:
        """The tracks that are to lie on it."""
        return sum(1 for track in self.plan.get("tracks", ()) if not track.get("left_out"))

    @property
    def mark(self) -> str:
        """What a page that shows it sends with an act on it."""
        return mark_of(self.track_count, self.revision)

    @property
    def said(self) -> str:
        """What kind of disc it is, on which blank."""
        kinds = {"files": "compressed files", "data": "data disc"}
        return f"{kinds.get(self.plan.get('kind', 'audio'), 'audio CD')}, {medium_for(self.plan.get('medium_key', '80')).label}"

    @property
    def busy(self) -> bool:
        return self.job is not None and self.job.active

    @property
    def proved(self) -> bool:
        """Whether what was written last reads back as it was to be."""
        return bool(self.verdicts) and all(verdict["equal"] for verdict in self.verdicts)

    @property
    def proved_whole(self) -> bool:
        """Whether every sector was read back, with subcode and CD-Text, and not the tracks alone."""
        return self.proved and all(verdict.get("whole") for verdict in self.verdicts)

    @property
    def limited(self) -> list[str]:
        """What of the written disc went beyond full scale and was limited, in sentences."""
        return list(self.written.get("limited", ()))

    @property
    def image_name(self) -> str:
        return Path(self.image_path).name


class DiscCopy(models.Model):
    """A disc that is copied as it is. sheet is the cue sheet of the image that lies in the drive, or of a disc that was
    taken in; drive_key the drive it is read through, "" for files; condition what reading the disc is like. stage is what
    the recorder is at. lines is what was found, each thing that the disc consists of with whether the copy has the same.
    """

    label = models.CharField(max_length=200)
    sheet = models.TextField()
    drive_key = models.CharField(max_length=20, blank=True)
    condition = models.CharField(max_length=20, blank=True)
    recorder_key = models.CharField(max_length=20)
    speed = models.PositiveSmallIntegerField()
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    stage = models.JSONField(default=dict)
    lines = models.JSONField(default=list)
    read = models.JSONField(default=list)
    image_path = models.TextField(blank=True)
    simulated_seconds = models.FloatField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"the copy of {self.label}"

    @property
    def busy(self) -> bool:
        return self.job is not None and self.job.active

    @property
    def identical(self) -> bool:
        return bool(self.lines) and all(line["same"] for line in self.lines)


class DiscChange(models.Model):
    """A change of a disc, with its design before: it can be undone, the latest first. made are the discs that came of
    it, said what it was, in words."""

    disc = models.ForeignKey(Disc, on_delete=models.CASCADE, related_name="changes")
    revision = models.PositiveIntegerField()
    before = models.JSONField(default=dict)
    name_before = models.CharField(max_length=200, blank=True)
    said = models.CharField(max_length=300)
    made = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.said


class SoundMeasure(models.Model):
    """What measuring found of a track's sound as a disc holds it, and the file that it is true of. data is a record as
    JSON (levels of silence are infinite, which the database's own JSON does not know), powers are the mean powers
    of its 400 ms blocks, as 64 bit floating point; data is "" for one that does not decode."""

    track = models.OneToOneField(Track, on_delete=models.CASCADE, primary_key=True, related_name="disc_measure")
    mark = models.CharField(max_length=120)
    data = models.TextField(blank=True)
    powers = models.BinaryField(default=b"")

    def __str__(self) -> str:
        return f"measure of {self.track_id}"


class Meeting(models.Model):
    """Whether the sound goes on from one track into another without a break, and the files that it is true of."""

    before = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="+")
    after = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="+")
    mark = models.CharField(max_length=240)
    meets = models.BooleanField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("before", "after"), name="one_meeting_of_a_pair"),)

    def __str__(self) -> str:
        return f"{self.before_id} and {self.after_id}"


class Recorder(models.Model):
    """A stand-in recorder and what lies in its tray: shelf_key is the disc's, "" for none; blank_state is the disc's by
    now. open_asked says that somebody wants the tray open while it writes, real_pace that it takes as long as a real one."""

    key = models.CharField(max_length=20, unique=True)
    shelf_key = models.CharField(max_length=20, blank=True)
    blank_state = models.CharField(max_length=10, blank=True)
    open_asked = models.BooleanField(default=False)
    real_pace = models.BooleanField(default=False)

    def __str__(self) -> str:
        return self.key
