"""Performers, their kits and the calibrations their warm-ups gave. Calibrations are versions and never edited."""

from django.conf import settings
from django.db import models


class Performer(models.Model):
    """`kit` lists the ids of the devices worn. measures: what was measured besides the height, by name, in metres."""

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="performers")
    name = models.CharField(max_length=60)
    height_m = models.FloatField()
    kit = models.JSONField(default=list)
    measures = models.JSONField(default=dict)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["production", "name"], name="one_performer_name")]


class PerformerCalibration(models.Model):
    performer = models.ForeignKey(Performer, on_delete=models.CASCADE, related_name="calibrations")
    version = models.PositiveIntegerField()
    document = models.JSONField()
    made_at = models.DateTimeField(auto_now_add=True)
    warm_up = models.ForeignKey("takes.Take", on_delete=models.SET_NULL, null=True, related_name="calibrations_made")

    class Meta:
        ordering = ["-version"]
        constraints = [models.UniqueConstraint(fields=["performer", "version"], name="one_calibration_version")]


class Character(models.Model):
    """A character of the animators: their file, never changed, and what was found out about it (`character/1`)."""

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="characters")
    name = models.CharField(max_length=60)
    file_name = models.CharField(max_length=120)
    file = models.BinaryField()
    document = models.JSONField()
    players = models.ManyToManyField(Performer, related_name="plays")
    added_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    added_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["production", "name"], name="one_character_name")]


class CharacterMap(models.Model):
    """A version of a character's map sheet (`map/1`); the newest one is used. Versions are never edited."""

    character = models.ForeignKey(Character, on_delete=models.CASCADE, related_name="maps")
    version = models.PositiveIntegerField()
    document = models.JSONField()
    made_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-version"]
        constraints = [models.UniqueConstraint(fields=["character", "version"], name="one_map_version")]
