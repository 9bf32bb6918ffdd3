"""What was held against a target as a specification."""

from django.db import models

from rumbrel.web.jobs.models import Job


class SpecCheck(models.Model):
    """Files held against a target as it was then. files are {"title", "path", "seconds"} in their order, as JSON has
    paths, so that all bytes come back; found is what came of each, by its place: {"lines", "error"}."""

    target = models.JSONField()
    target_name = models.CharField(max_length=200)
    target_slug = models.CharField(max_length=80)
    about = models.CharField(max_length=200, blank=True)
    files = models.JSONField(default=list)
    found = models.JSONField(default=dict)
    job = models.ForeignKey(Job, on_delete=models.SET_NULL, null=True, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ("-pk",)

    def __str__(self) -> str:
        return f"{len(self.files)} files against {self.target_name}"
