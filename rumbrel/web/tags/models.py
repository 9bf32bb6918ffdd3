"""Edits of tags: what was asked of each file, what it said before, and what became of it."""

from pathlib import Path

from django.conf import settings
from django.db import models

from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job


class TagEdit(models.Model):
    """Changes of the tags of some files, made in one job.

    cover_act says what is done with pictures: "" nothing, else put in, taken out, made smaller to cover_pixels, or
    restore covers as they were. owner is who made it. undoes is the edit that this one takes back.
    """

    class CoverAct(models.TextChoices):
        NONE = "", "leave them"
        PUT = "put", "put in this one instead"
        TAKE = "take", "take all out"
        SMALLER = "smaller", "make them smaller"
        BACK = "back", "restore covers"

    title = models.CharField(max_length=200)
    owner = models.CharField(max_length=150, blank=True)
    cover_act = models.CharField(max_length=10, choices=CoverAct.choices, blank=True)
    cover_pixels = models.PositiveIntegerField(null=True)
    undoes = models.OneToOneField("self", on_delete=models.SET_NULL, null=True, related_name="undone_by")
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.title

    @property
    def new_covers(self) -> Path:
        """The pictures that it puts in."""
        return settings.RUMBREL.undo / f"edit-{self.pk}.json"


class EditedFile(models.Model):
    """One file of an edit. change holds the new values by our names of fields, [] for one that goes; before what they
    were. covers_from is the file of another edit whose pictures are restore covers."""

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        FAILED = "failed"

    edit = models.ForeignKey(TagEdit, on_delete=models.CASCADE, related_name="files")
    track = models.ForeignKey(Track, on_delete=models.SET_NULL, null=True, related_name="+")
    title = models.TextField()
    change = models.JSONField(default=dict)
    before = models.JSONField(default=dict)
    covers_from = models.PositiveBigIntegerField(null=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    error = models.TextField(blank=True)

    class Meta:
        ordering = ("pk",)
        indexes = (models.Index(fields=("edit", "state")),)

    def __str__(self) -> str:
        return f"{self.title} ({self.state})"

    @property
    def old_covers(self) -> Path:
        """The pictures that were there before, where the edit changed them."""
        return covers_before(self.pk)

    @property
    def old_layout(self) -> Path:
        """How its changed fields were laid out before."""
        return layout_before(self.pk)

    @property
    def note(self) -> Path:
        """What is noted of it while it is written."""
        return settings.RUMBREL.undo / f"note-{self.pk}.json"


def covers_before(file_id: int) -> Path:
    """Where the pictures are that a file had before it was edited."""
    return settings.RUMBREL.undo / f"file-{file_id}.json"


def layout_before(file_id: int) -> Path:
    """Where it is kept how the changed fields of a file were laid out before."""
    return settings.RUMBREL.undo / f"layout-{file_id}.json"
