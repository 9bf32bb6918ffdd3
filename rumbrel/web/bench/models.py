"""What the bench remembers: the discs in its drives, what was taken in from them, and the names of discs."""

from django.db import models

from rumbrel.web.jobs.models import Job


class Drive(models.Model):
    """A stand-in drive and the disc in it, by its key on the shelf; "" for none."""

    key = models.CharField(max_length=20, unique=True)
    disc_key = models.CharField(max_length=200, blank=True)

    def __str__(self) -> str:
        return self.key


class TakeIn(models.Model):
    """A disc that was put into a drive, and what is or was taken in from it.

    digest tells the disc by its contents table, which contents keeps as a record. names are title, performer and the
    tracks' own, names_from what they came from. chosen are the numbers of the tracks that are wanted, readings how each
    was read, kept the doubtful ones that the user wants all the same, results the file that each track became, by its number and the target.
    """

    drive_key = models.CharField(max_length=20)
    disc_key = models.CharField(max_length=200)
    disc_label = models.CharField(max_length=200)
    digest = models.CharField(max_length=40, db_index=True)
    contents = models.JSONField(default=dict)
    names = models.JSONField(default=dict)
    names_from = models.CharField(max_length=40, blank=True)
    targets = models.JSONField(default=list)
    chosen = models.JSONField(default=list)
    readings = models.JSONField(default=dict)
    kept = models.JSONField(default=list)
    results = models.JSONField(default=dict)
    folder = models.TextField(blank=True)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    in_drive = models.BooleanField(default=True)
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return str(self.names.get("title") or self.disc_label)

    @property
    def busy(self) -> bool:
        return self.job is not None and self.job.active


class DiscNames(models.Model):
    """The names that a user gave to a disc."""

    digest = models.CharField(max_length=40, unique=True)
    names = models.JSONField(default=dict)

    def __str__(self) -> str:
        return str(self.names.get("title", self.digest))


class BenchChoice(models.Model):
    """How discs are taken in: begin_at_once starts as soon as one is put in; targets are what its tracks become."""

    begin_at_once = models.BooleanField(default=False)
    targets = models.JSONField(default=list)

    def __str__(self) -> str:
        return "at once" if self.begin_at_once else "when asked"
