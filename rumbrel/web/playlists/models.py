"""Playlists: ordered lists of tracks."""

from django.db import models

from rumbrel.web.collection.models import Track
from rumbrel.web.ui.seen import mark_of


class KeptLists(models.Manager["Playlist"]):
    """Lists that were not deleted."""

    def get_queryset(self) -> models.QuerySet["Playlist"]:
        return super().get_queryset().filter(deleted_at=None)


class Playlist(models.Model):
    """count and seconds are kept as entries come and go, revision grows with each change. brought is the report of the
    import that it came from: a record for each entry that was not simply found. A deleted list can be put back for
    some days, with its discs; only then it goes for good."""

    name = models.CharField(max_length=200)
    count = models.PositiveIntegerField(default=0)
    seconds = models.FloatField(default=0)
    notes = models.TextField(blank=True)
    revision = models.PositiveIntegerField(default=0)
    brought = models.JSONField(default=dict)
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True)

    objects = KeptLists()
    all_lists = models.Manager()

    class Meta:
        ordering = ("-pk",)
        base_manager_name = "all_lists"

    def __str__(self) -> str:
        return self.name

    @property
    def mark(self) -> str:
        """What a page that shows it sends with an act on it."""
        return mark_of(self.count, self.revision)


class Entry(models.Model):
    """A track's position in a list. Positions grow; they need not follow each other without gaps."""

    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="entries")
    track = models.ForeignKey(Track, on_delete=models.CASCADE)
    position = models.PositiveIntegerField()

    class Meta:
        ordering = ("position", "pk")
        indexes = (models.Index(fields=("playlist", "position", "id")),)

    def __str__(self) -> str:
        return f"entry {self.position} of list {self.playlist_id}"


class ListChange(models.Model):
    """A change of a list, with its rows before as pairs of entry and track: it can be undone, the latest first."""

    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="changes")
    revision = models.PositiveIntegerField()
    before = models.TextField()
    said = models.CharField(max_length=200)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.said
