"""Runs of passes and mends."""

from django.conf import settings
from django.db import models


class Run(models.Model):
    """One execution of a pass over a take. Newer runs supersede; none is deleted."""

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    take = models.ForeignKey("shoot.Take", on_delete=models.CASCADE, related_name="runs")
    name = models.CharField(max_length=20)
    parameters = models.JSONField(default=dict)
    code_version = models.CharField(max_length=40, default="")
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.TextField(blank=True)
    figures = models.JSONField(default=dict)
    snags = models.JSONField(default=list)
    cancel_asked = models.BooleanField(default=False)
    asked_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]


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
