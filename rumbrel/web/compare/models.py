"""Comparisons of an excerpt, and blind tests between two of its voices."""

from django.db import models

from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job


class Comparison(models.Model):
    """An excerpt of a track and its voices: the source first, then {"key", "label", "target" or "item"}, where
    key is how it was chosen. found is what came of each, in their order. wish is that of the forecast it was begun from, {"targets",
    "options", "track_ids"}: such voices are made as its batch would. With matches_levels all are heard at one level."""

    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="+")
    start_seconds = models.FloatField(default=0)
    seconds = models.FloatField()
    voices = models.JSONField(default=list)
    found = models.JSONField(default=list)
    wish = models.JSONField(default=dict)
    matches_levels = models.BooleanField(default=True)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"comparison {self.pk} of {self.track_id}"


class BlindTest(models.Model):
    """Trials in which one of two voices is to be told from the other, in an order that nobody sees. one and other are
    their numbers; tells says that each answer is judged at once, and not only at the end; answers are {"one_first", "said_first"} of the trials that are over; one_first is the order of the
    trial under way."""

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="tests")
    one = models.PositiveSmallIntegerField(default=0)
    other = models.PositiveSmallIntegerField()
    trials = models.PositiveSmallIntegerField()
    tells = models.BooleanField(default=True)
    answers = models.JSONField(default=list)
    one_first = models.BooleanField()
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"blind test {self.pk}: {self.right} of {len(self.answers)}"

    @property
    def right(self) -> int:
        return sum(answer["one_first"] == answer["said_first"] for answer in self.answers)

    @property
    def ended(self) -> bool:
        return len(self.answers) >= self.trials

    @property
    def judged(self) -> bool:
        """Whether the page may say by now which answers were right."""
        return self.tells or self.ended
