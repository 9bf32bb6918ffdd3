"""What the bench remembers: discs in drives and what was taken in from them, volumes and what was delivered to them."""

from typing import Any

from django.db import models

from rumbrel.web.collection.models import Track
from rumbrel.web.jobs.models import Job


class Drive(models.Model):
    """A stand-in drive and the disc in it, by its key on the shelf; "" for none."""

    key = models.CharField(max_length=20, unique=True)
    disc_key = models.CharField(max_length=200, blank=True)

    def __str__(self) -> str:
        return self.key


class TakeIn(models.Model):
    """A disc that was put into a drive, and what is or was taken in from it.

    digest tells the disc by its contents table, which contents keeps as a record; said and sound by its text and codes, and by
    some of its sound (see known_again.DiscMark). names are title, performer and the
    tracks' own, names_from what they came from. chosen are the numbers of the tracks that are wanted, readings how each
    was read, hidden says that what lies before track 1 is a track 0 of its own, deemphasis that pre-emphasis is taken out,
    kept the doubtful ones that the user wants all the same, results the file that
    each track became, by its number and the target.
    """

    drive_key = models.CharField(max_length=20)
    disc_key = models.CharField(max_length=200)
    disc_label = models.CharField(max_length=200)
    digest = models.CharField(max_length=40, db_index=True)
    said = models.CharField(max_length=40, blank=True)
    sound = models.CharField(max_length=40, blank=True)
    contents = models.JSONField(default=dict)
    names = models.JSONField(default=dict)
    names_from = models.CharField(max_length=40, blank=True)
    targets = models.JSONField(default=list)
    chosen = models.JSONField(default=list)
    readings = models.JSONField(default=dict)
    hidden = models.BooleanField(default=False)
    deemphasis = models.BooleanField(default=False)
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
    """The names that a user gave to a disc, told by all that is known of it."""

    digest = models.CharField(max_length=40, db_index=True)
    said = models.CharField(max_length=40, blank=True)
    sound = models.CharField(max_length=40, blank=True)
    names = models.JSONField(default=dict)

    class Meta:
        constraints = (models.UniqueConstraint(fields=("digest", "said", "sound"), name="one_name_a_disc"),)

    def __str__(self) -> str:
        return str(self.names.get("title", self.digest))


class IncomingImage(models.Model):
    """An image of the user's own that is made into one BIN before it lies on the shelf: the folder of its files, which
    of them is the sheet, and what the disc is called."""

    name = models.CharField(max_length=120)
    sheet = models.TextField()
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name


class BenchChoice(models.Model):
    """How somebody's discs are taken in: begin_at_once starts as soon as one is put in; targets are what its tracks become."""

    owner = models.CharField(max_length=150, unique=True, blank=True)
    begin_at_once = models.BooleanField(default=False)
    targets = models.JSONField(default=list)

    def __str__(self) -> str:
        return "at once" if self.begin_at_once else "when asked"


class VolumeRow(models.Model):
    """A stick or card: a stand-in by its key, or a mounted folder of this machine by its path, with where it is mounted.

    plugged is asked of stand-ins alone. looked_at is when its files were read last.
    """

    key = models.CharField(max_length=20, blank=True)
    name = models.CharField(max_length=120)
    path = models.TextField(blank=True)
    mount_point = models.TextField(blank=True)
    file_system = models.CharField(max_length=20)
    target_slug = models.CharField(max_length=80)
    plugged = models.BooleanField(default=True)
    looked_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("pk",)
        constraints = (
            models.UniqueConstraint(fields=("key",), condition=~models.Q(key=""), name="one_row_a_stand_in"),
        )

    def __str__(self) -> str:
        return self.name


class VolumeFile(models.Model):
    """A sound file on a volume as it was read last; facts as the collection keeps them."""

    volume = models.ForeignKey(VolumeRow, on_delete=models.CASCADE, related_name="files")
    relative = models.TextField()
    size_bytes = models.BigIntegerField()
    modified_ns = models.BigIntegerField()
    facts = models.TextField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=("volume", "relative"), name="one_file_a_path"),)

    def __str__(self) -> str:
        return self.relative


class Delivery(models.Model):
    """Something brought onto a volume: foreseen first, then carried out when the user says so.

    source is "pulled", "playlist:<pk>", "batch:<pk>" or "right" (files on the volume made anew in their places);
    track_ids or paths are what it holds. left_out are the numbers of its lines that stay out. foreseen are the sums of
    the forecast, lists the records of what became of the lists. gone says that the volume was taken out meanwhile. With
    mirrors other sound on it is removed, with tidies only what earlier deliveries put there. gives_up says that lossless
    originals on the volume may go although they are nowhere else; with_digests, that a list of digests is written beside.
    """

    volume = models.ForeignKey(VolumeRow, on_delete=models.CASCADE, related_name="deliveries")
    title = models.CharField(max_length=240)
    source = models.CharField(max_length=40)
    target_slug = models.CharField(max_length=80)
    pattern = models.CharField(max_length=200, blank=True)
    mirrors = models.BooleanField(default=False)
    tidies = models.BooleanField(default=False)
    gives_up = models.BooleanField(default=False)
    with_digests = models.BooleanField(default=False)
    track_ids = models.JSONField(default=list)
    paths = models.JSONField(default=list)
    list_name = models.CharField(max_length=200, blank=True)
    left_out = models.JSONField(default=list)
    foreseen = models.JSONField(default=dict)
    lists = models.JSONField(default=list)
    started = models.BooleanField(default=False)
    finished_at = models.DateTimeField(null=True)
    gone = models.BooleanField(default=False)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)
        verbose_name_plural = "deliveries"

    def __str__(self) -> str:
        return self.title

    @property
    def busy(self) -> bool:
        return self.job is not None and self.job.active

    @property
    def sums(self) -> dict[str, Any]:
        return dict(self.foreseen)


class DeliveryItem(models.Model):
    """A line of a delivery: fate is what is done about it, output where on the volume, taken_bytes what that takes in
    whole clusters. shown is what the player's display shows, plays_as the how-manieth of all on the volume it plays.
    sha256 is that of its bytes there, once they were compared or read."""

    class State(models.TextChoices):
        WAITING = "waiting"
        DONE = "done"
        PART = "in part"
        FAILED = "failed"
        CANNOT = "cannot"

    delivery = models.ForeignKey(Delivery, on_delete=models.CASCADE, related_name="items")
    number = models.PositiveIntegerField()
    track = models.ForeignKey(Track, on_delete=models.SET_NULL, null=True, related_name="+")
    title = models.TextField()
    source = models.TextField()
    fate = models.CharField(max_length=20)
    reason = models.TextField(blank=True)
    output = models.TextField(blank=True)
    shown = models.TextField(blank=True)
    plays_as = models.PositiveIntegerField(default=0)
    now = models.CharField(max_length=80, blank=True)
    after = models.CharField(max_length=80, blank=True)
    taken_bytes = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    warnings = models.JSONField(default=list)
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    digest = models.CharField(max_length=40, blank=True)
    sha256 = models.CharField(max_length=64, blank=True)
    error = models.TextField(blank=True)

    class Meta:
        ordering = ("number",)
        indexes = (models.Index(fields=("delivery", "number")), models.Index(fields=("delivery", "state")))

    def __str__(self) -> str:
        return f"{self.title} ({self.state})"

    @property
    def name(self) -> str:
        return self.output.rpartition("/")[2]

    @property
    def folder(self) -> str:
        return self.output.rpartition("/")[0]
