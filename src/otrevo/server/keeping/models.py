"""Removals: what somebody removed and is still there, until its time is over."""

from django.conf import settings
from django.db import models


class Removal(models.Model):
    """One removal of a take, a slate, a day or a production, with everything in it that had not been removed before.

    What it is about points here (`removal`), is found by nobody, and is deleted at `due_at`; words: what it was.
    """

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="removals")
    what = models.CharField(max_length=12)
    words = models.CharField(max_length=160)
    by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    due_at = models.DateTimeField(db_index=True)

    class Meta:
        ordering = ["-id"]
