"""Runs of passes and mends."""

from django.conf import settings
from django.db import models

from otrevo.server.work import Work


class Run(Work):
    """One execution of a pass over a take."""

    take = models.ForeignKey("shoot.Take", on_delete=models.CASCADE, related_name="runs")
    snags = models.JSONField(default=list)
    results = ("figures", "snags")

    def clear(self):
        self.tracks.all().delete()


class Mend(models.Model):
    """One reversible repair; `active` is false once it has been taken back."""

    take = models.ForeignKey("shoot.Take", on_delete=models.CASCADE, related_name="mends")
    document = models.JSONField()
    words = models.CharField(max_length=160)
    active = models.BooleanField(default=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]
