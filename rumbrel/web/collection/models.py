"""Source folders, their tracks and facts, kept counts, and pull lists."""

from pathlib import Path

from django.db import models
from django.db.models import F, Func, Q, Value
from django.db.models.functions import Lower, Replace
from django.utils import timezone

from rumbrel.web.ui.seen import mark_of


class SourceFolder(models.Model):
    """A folder on this machine that is read, never written. A file belongs to the innermost one above it.

    lost is how many of its tracks the last scan did not find, where these were so many that it asks before
    it believes it; loss_believed is the user's answer, for the next scan. fixity_days is how often its files are
    compared, 0 for on request alone. watched has it scanned when something in it changes: scanned_state is what it
    was like before the scan that was begun last, seen_state at the last look (see watch_folders.py).
    """

    path = models.TextField(unique=True)
    label = models.CharField(max_length=120, blank=True)
    lost = models.PositiveIntegerField(default=0)
    loss_believed = models.BooleanField(default=False)
    added_at = models.DateTimeField(auto_now_add=True)
    fixity_days = models.PositiveSmallIntegerField(default=0)
    watched = models.BooleanField(default=False)
    scanned_state = models.CharField(max_length=32, blank=True)
    seen_state = models.CharField(max_length=32, blank=True)

    def __str__(self) -> str:
        return self.path

    @property
    def name(self) -> str:
        """What the user calls it, else its own name."""
        return self.label or Path(self.path).name


class Track(models.Model):
    """A file as the last scan found it: the columns that are searched, sorted and counted.

    All of its facts stand in TrackFacts; these columns are derived from them. path and relative are
    written so that any two files differ (bytes that are no UTF-8 as \\xNN); the true path is the facts'.
    fault is the code of its first fault. missing_since says that the file is no longer there. By
    content_mark a file is known again that was moved or renamed; changed_ns is its change time, which also tells of other content
    of the same size and time, None where that was not kept yet. directory is the part of relative up to its last
    stroke. year is that of its date, 0 where it has none; tag_bits says which tags it has (see sentence.py). added_at is
    None for tracks that were there before this was kept. sound is which of
    several sounds was chosen, counted from 1, "" for the first.
    cut_of is the track of the whole file that this one is a part of: then its path has the part behind it, and
    size_bytes is about how much of the file is its own.
    """

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, related_name="tracks")
    path = models.TextField(unique=True)
    relative = models.TextField()
    directory = models.GeneratedField(
        # All signs but strokes are cut off the end.
        expression=Func(
            F("relative"),
            Replace(F("relative"), Value("/"), Value("")),
            function="RTRIM",
            output_field=models.TextField(),
        ),
        output_field=models.TextField(),
        db_persist=False,
    )
    title = models.TextField(blank=True)
    performer = models.TextField(blank=True)
    album = models.TextField(blank=True)
    format = models.CharField(max_length=40, blank=True)
    container = models.CharField(max_length=40, blank=True)
    codec = models.CharField(max_length=40, blank=True)
    lossless = models.BooleanField(default=False)
    sample_rate = models.PositiveIntegerField(default=0)
    bit_depth = models.PositiveSmallIntegerField(null=True)
    channels = models.PositiveSmallIntegerField(default=0)
    samples = models.BigIntegerField(default=0)
    seconds = models.FloatField(default=0)
    bitrate_bps = models.BigIntegerField(default=0)
    bitrate_mode = models.CharField(max_length=12, blank=True)
    channel_mode = models.CharField(max_length=20, blank=True)
    has_video = models.BooleanField(default=False)
    sound = models.CharField(max_length=8, blank=True)
    has_lead = models.BooleanField(default=False)
    size_bytes = models.BigIntegerField(default=0)
    modified_ns = models.BigIntegerField(default=0)
    changed_ns = models.BigIntegerField(null=True)
    content_mark = models.CharField(max_length=32, blank=True)
    fault = models.CharField(max_length=30, blank=True)
    faults = models.PositiveSmallIntegerField(default=0)
    usable = models.BooleanField(default=False)
    whole = models.BooleanField(default=False)
    missing_since = models.DateTimeField(null=True)
    facts_version = models.PositiveSmallIntegerField(default=0)
    cut_of = models.ForeignKey("self", on_delete=models.CASCADE, null=True, related_name="cuts")
    tag_bits = models.PositiveIntegerField(default=0)
    year = models.PositiveSmallIntegerField(default=0)
    added_at = models.DateTimeField(null=True, default=timezone.now)

    class Meta:
        ordering = ("relative", "pk")
        indexes = (
            models.Index(fields=("relative", "id")),
            models.Index(fields=("folder", "relative", "id")),
            models.Index(fields=("format", "relative", "id")),
            models.Index(fields=("sample_rate", "relative", "id")),
            models.Index(fields=("fault", "relative", "id")),
            models.Index(fields=("title", "id")),
            models.Index(fields=("performer", "relative", "id")),
            models.Index(fields=("album", "relative", "id")),
            models.Index(fields=("-bitrate_bps", "id")),
            models.Index(fields=("-seconds", "id")),
            models.Index(fields=("-size_bytes", "id")),
            models.Index(fields=("content_mark",)),
            models.Index(fields=("year", "relative", "id")),
            models.Index(fields=("folder", "directory", "relative", "id")),
            # One recording under one name: see duplicates.
            models.Index(Lower("performer"), Lower("title"), name="track_by_lower_names"),
        )

    def __str__(self) -> str:
        return self.title or self.relative


class TrackFacts(models.Model):
    """All that inspection found, as JSON, and the words by which the track is searched.

    An index of the words (SQLite's FTS5) is kept by triggers on this table; see the migrations.
    """

    track = models.OneToOneField(Track, on_delete=models.CASCADE, primary_key=True, related_name="kept_facts")
    data = models.TextField()
    words = models.TextField(blank=True)

    def __str__(self) -> str:
        return f"facts of {self.track_id}"


class Facet(models.Model):
    """How many tracks of one folder there are of one format, rate and fault: totals without counting."""

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, related_name="facets")
    format = models.CharField(max_length=40, blank=True)
    sample_rate = models.PositiveIntegerField(default=0)
    fault = models.CharField(max_length=30, blank=True)
    tracks = models.PositiveIntegerField(default=0)
    seconds = models.FloatField(default=0)
    longest_seconds = models.FloatField(default=0)
    size_bytes = models.BigIntegerField(default=0)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=("folder", "format", "sample_rate", "fault"), name="one_facet_of_a_kind"),
        )

    def __str__(self) -> str:
        return f"{self.tracks} of {self.format} at {self.sample_rate} Hz"


class SavedView(models.Model):
    """A sentence with its columns that a user wants to see again: the query of the collection's address.

    removed_at says that it was removed and can be put back.
    """

    owner = models.CharField(max_length=150, blank=True)
    name = models.CharField(max_length=80)
    query = models.TextField(blank=True)
    removed_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("name",)
        constraints = (models.UniqueConstraint(fields=("owner", "name"), name="one_saved_view_of_a_name"),)

    def __str__(self) -> str:
        return self.name


class PullList(models.Model):
    """The tracks picked for the work at hand, of a user or, where owner is "", of the installation.

    count, seconds, size_bytes and strip (lengths in seconds, neighbours joined where there are many) are
    kept, so that every page can show them. version grows with each change.
    """

    owner = models.CharField(max_length=150, unique=True, blank=True)
    count = models.PositiveIntegerField(default=0)
    seconds = models.FloatField(default=0)
    size_bytes = models.BigIntegerField(default=0)
    strip = models.JSONField(default=list)
    version = models.PositiveBigIntegerField(default=0)

    def __str__(self) -> str:
        return f"{self.count} pulled"

    @property
    def mark(self) -> str:
        """What a page that shows it sends with an act on it."""
        return mark_of(self.count, self.version)


class Pull(models.Model):
    """A track on a pull list, in the order of pulling. cleared_at says that it was taken off with all others
    and can be put back."""

    pull_list = models.ForeignKey(PullList, on_delete=models.CASCADE, related_name="pulls")
    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="pulls")
    cleared_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ("pk",)
        indexes = (models.Index(fields=("pull_list", "cleared_at", "id")),)
        constraints = (
            models.UniqueConstraint(
                fields=("pull_list", "track"), condition=Q(cleared_at=None), name="a_track_is_pulled_once"
            ),
        )

    def __str__(self) -> str:
        return f"pull of {self.track_id}"


class DeepLook(models.Model):
    """What one decode of a track told, and the file that it was true of.

    data is the record of DeepFacts without its pictures, faults those that only decoding shows, as records; both as
    JSON. size_bytes and modified_ns are the file's when it was looked at. Levels of silence are None.
    """

    track = models.OneToOneField(Track, on_delete=models.CASCADE, primary_key=True, related_name="look")
    data = models.JSONField(default=dict)
    faults = models.JSONField(default=list)
    error = models.TextField(blank=True)
    size_bytes = models.BigIntegerField(default=0)
    modified_ns = models.BigIntegerField(default=0)
    digest = models.CharField(max_length=40, blank=True)
    looked_at = models.DateTimeField(auto_now=True)

    class Meta:
        indexes = (models.Index(fields=("digest",)),)

    def __str__(self) -> str:
        return f"look at {self.track_id}"


class LookWork(models.Model):
    """Tracks that are to be looked at in one job."""

    track_ids = models.JSONField(default=list)
    job = models.ForeignKey("jobs.Job", on_delete=models.SET_NULL, null=True, related_name="+")

    def __str__(self) -> str:
        return f"look at {len(self.track_ids)} tracks"


MISSING = "missing"
FOUND_AGAIN = "found again"
"""By a scan since the last comparison, which did not find it."""


class Fixity(models.Model):
    """What was kept of a track's file, and how it stood to that when it was compared last.

    sha256 and sound are what it is to be; now_sha256 and now_sound what it was then. kept_at is when it was first
    kept or last taken as it was.
    """

    track = models.OneToOneField(Track, on_delete=models.CASCADE, primary_key=True, related_name="fixity")
    sha256 = models.CharField(max_length=64)
    sound = models.CharField(max_length=40, blank=True)
    now_sha256 = models.CharField(max_length=64, blank=True)
    now_sound = models.CharField(max_length=40, blank=True)
    state = models.CharField(max_length=20)
    error = models.TextField(blank=True)
    kept_at = models.DateTimeField()
    checked_at = models.DateTimeField(null=True)

    class Meta:
        verbose_name_plural = "fixities"
        indexes = (models.Index(fields=("state",)),)

    def __str__(self) -> str:
        return f"{self.track_id}: {self.state}"

    @property
    def standing(self) -> str:
        """Its state, where a scan since the last comparison does not know better whether the file is there."""
        if self.track.missing_since is not None:
            return MISSING
        return FOUND_AGAIN if self.state == MISSING else self.state


class FixityEvent(models.Model):
    """Something that happened to what is kept of a track: it stays, whatever comes later."""

    track = models.ForeignKey(Track, on_delete=models.CASCADE, related_name="fixity_events")
    state = models.CharField(max_length=40)
    sha256 = models.CharField(max_length=64, blank=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"{self.track_id}: {self.state}"


class FixityWork(models.Model):
    """A comparison of all tracks, or of those of a folder."""

    folder = models.ForeignKey(SourceFolder, on_delete=models.CASCADE, null=True)
    job = models.ForeignKey("jobs.Job", on_delete=models.SET_NULL, null=True, related_name="+")
    counts = models.JSONField(default=dict)
    done_ids = models.JSONField(default=list)

    def __str__(self) -> str:
        return f"fixity of {self.folder or 'all'}"


class BagWork(models.Model):
    """A bag that is to be made of tracks: name is its folder's, path where it lies when it is made."""

    name = models.CharField(max_length=120)
    description = models.TextField(blank=True)
    track_ids = models.JSONField(default=list)
    path = models.TextField(blank=True)
    job = models.ForeignKey("jobs.Job", on_delete=models.SET_NULL, null=True, related_name="+")

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return self.name
