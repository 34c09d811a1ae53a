"""Packages and the animators' answers. Building one is a Run, which knows how far it is.

A package's `characters` are the ids of those that go in; None: all that are played in its takes.
"""

from django.conf import settings
from django.db import models


class Package(models.Model):
    class State(models.TextChoices):
        BUILDING = "building"
        READY = "ready"
        FAULTY = "faulty"
        SENT = "sent"
        ACCEPTED = "accepted"
        RETURNED = "returned"
        CANCELLED = "cancelled"

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="packages")
    name = models.CharField(max_length=120)
    formats = models.JSONField(default=list)
    characters = models.JSONField(null=True)
    rate = models.CharField(max_length=16)
    takes = models.ManyToManyField("takes.Take", related_name="packages")
    runs = models.ManyToManyField("work.Run", related_name="packages")
    state = models.CharField(max_length=10, choices=State.choices, default=State.BUILDING)
    message = models.TextField(blank=True)
    manifest = models.JSONField(default=dict)
    archive = models.BinaryField(null=True)
    archive_bytes = models.BigIntegerField(default=0)
    made_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="packages_made"
    )
    made_at = models.DateTimeField(auto_now_add=True)
    answer = models.TextField(blank=True)
    answered_by = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="answers"
    )

    class Meta:
        ordering = ["-id"]
