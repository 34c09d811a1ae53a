"""What is rolling right now, so that a reload of the page or of the server does not lose it."""

from django.conf import settings
from django.db import models


class Rolling(models.Model):
    slate = models.OneToOneField("shoot.Slate", on_delete=models.CASCADE, related_name="rolling")
    number = models.PositiveIntegerField()
    started_at = models.DateTimeField()
    first_timecode_frame = models.BigIntegerField()
    note = models.TextField(blank=True)  # of the take that is rolling; it and the status become the take's
    version = models.PositiveIntegerField(default=0)  # of the note
    circled = models.BooleanField(default=False)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
