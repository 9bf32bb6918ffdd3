"""Playlists: ordered lists of tracks."""

from django.db import models

from rumbrel.web.collection.models import Track


class Playlist(models.Model):
    """count and seconds are kept as entries come and go."""

    name = models.CharField(max_length=200)
    count = models.PositiveIntegerField(default=0)
    seconds = models.FloatField(default=0)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.name


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
