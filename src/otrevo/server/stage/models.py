"""The room: its cameras, what shines in it, what was recorded to calibrate it, and the calibrations that gave."""

from django.conf import settings
from django.db import models


class Room(models.Model):
    """A production's stage. `rig` is what its cameras say of themselves (`cameras/1`); `simulated` in it marks a stand-in."""

    production = models.OneToOneField("shoot.Production", on_delete=models.CASCADE, related_name="room")
    rig = models.JSONField()


class Blinds(models.Model):
    """One version of all blinds of the room: rows as in a `blinds/1` document. The newest that is not undone counts."""

    room = models.ForeignKey(Room, on_delete=models.CASCADE, related_name="blinds")
    rows = models.JSONField()
    words = models.CharField(max_length=160)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    made_at = models.DateTimeField(auto_now_add=True)
    undone = models.BooleanField(default=False)

    class Meta:
        ordering = ["id"]


class StageRecording(models.Model):
    """Centroids recorded for calibrating: the still room, a sweep, the wand or markers on the floor. Never edited."""

    class Kind(models.TextChoices):
        STILL = "still"
        SWEEP = "sweep"
        WAND_ON_FLOOR = "wand on floor"
        FLOOR_MARKERS = "floor markers"

    room = models.ForeignKey(Room, on_delete=models.CASCADE, related_name="recordings")
    kind = models.CharField(max_length=20, choices=Kind.choices)
    wand = models.JSONField(null=True)
    source = models.CharField(max_length=120, default="cameras")
    seconds = models.FloatField()
    notes = models.JSONField(default=list)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]


class StageCalibration(models.Model):
    """One version of the calibrated room; takes point at theirs. Never edited."""

    room = models.ForeignKey(Room, on_delete=models.CASCADE, related_name="calibrations")
    version = models.PositiveIntegerField()
    how = models.CharField(max_length=20)  # sweep, level, adjust, placed anew
    words = models.CharField(max_length=200)
    document = models.JSONField()  # calibration/1
    figures = models.JSONField(default=dict)
    rows = models.JSONField(default=list)
    failed = models.JSONField(default=dict)
    notes = models.JSONField(default=list)
    covariance = models.BinaryField(null=True)  # float64 (15 C, 15 C) of the cameras' numbers, in the document's world
    source = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="followed_by")
    recording = models.ForeignKey(StageRecording, on_delete=models.SET_NULL, null=True)
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-version"]
        constraints = [models.UniqueConstraint(fields=["room", "version"], name="one_stage_calibration_version")]
