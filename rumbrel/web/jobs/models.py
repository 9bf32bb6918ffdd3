"""Work in the background: one row for each piece of it, whose state outlives any process."""

from django.db import models
from django.db.models import Q

DONE_WITH_FAILURES = "done with failures"


class Job(models.Model):
    """A piece of work of some kind on some subject.

    kind says who carries it out (registry.py), subject is the id of what it works on. done and total
    count in unit; finished and items count whole things, failures those that failed. message says what came of it and where that is,
    error why it failed. worker is who has it, heartbeat when that one last said it lives. stop_asked says
    that the user wants an end, which the worker brings about at its next report; paused, that it is to begin nothing
    new until it may go on; place orders what waits, the lowest first; again, that the work is to
    go on after that end, or to be done once more. So nobody begins on a subject before the last one has let go of it.
    """

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        STOPPED = "stopped"

    ACTIVE = (State.WAITING, State.RUNNING)

    kind = models.CharField(max_length=40)
    subject = models.PositiveBigIntegerField()
    title = models.CharField(max_length=240)
    owner = models.CharField(max_length=150, blank=True)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    worker = models.CharField(max_length=120, blank=True)
    heartbeat = models.DateTimeField(null=True)
    stop_asked = models.BooleanField(default=False)
    paused = models.BooleanField(default=False)
    place = models.IntegerField(default=0)
    again = models.BooleanField(default=False)
    tries = models.PositiveSmallIntegerField(default=0)
    done = models.FloatField(default=0)
    total = models.FloatField(default=0)
    unit = models.CharField(max_length=10, blank=True)
    step = models.CharField(max_length=60, blank=True)
    finished = models.PositiveIntegerField(default=0)
    items = models.PositiveIntegerField(default=0)
    failures = models.PositiveIntegerField(default=0)
    message = models.TextField(blank=True)
    error = models.TextField(blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("-pk",)
        indexes = (models.Index(fields=("state", "-id")), models.Index(fields=("kind", "subject")))
        constraints = (
            models.UniqueConstraint(
                fields=("kind", "subject"),
                condition=Q(state__in=("waiting", "running")),
                name="one_active_job_a_subject",
            ),
        )

    def __str__(self) -> str:
        return f"{self.title} ({self.state})"

    @property
    def share(self) -> float:
        """0.0 to 1.0."""
        return min(1.0, self.done / self.total) if self.total else 0.0

    @property
    def shown_state(self) -> str:
        """The state in words: a job whose end was asked for is stopping until its worker has let go. A paused one
        finishes what it has begun, and what is done may have failed in part."""
        if self.state == self.State.DONE and self.failures:
            return DONE_WITH_FAILURES
        if self.state != self.State.RUNNING:
            return str(self.state)
        return "stopping" if self.stop_asked else "paused" if self.paused else str(self.state)

    @property
    def active(self) -> bool:
        return self.state in self.ACTIVE
