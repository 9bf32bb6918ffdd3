"""Playlists: ordered lists of tracks."""

from django.db import models

from rumbrel.web.collection.models import Track


class Playlist(models.Model):
    name = models.CharField(max_length=200)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    @property
    def seconds(self) -> float:
        return sum(entry.track.seconds for entry in self.entries.select_related("track"))


class Entry(models.Model):
    playlist = models.ForeignKey(Playlist, on_delete=models.CASCADE, related_name="entries")
    track = models.ForeignKey(Track, on_delete=models.CASCADE)
    position = models.PositiveIntegerField()

    class Meta:
        ordering = ["position", "pk"]
