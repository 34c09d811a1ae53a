"""Performers, their kits and the calibrations their warm-ups gave. Calibrations are versions and never edited."""

from django.db import models


class Performer(models.Model):
    """`kit` lists the ids of the devices worn."""

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="performers")
    name = models.CharField(max_length=60)
    height_m = models.FloatField()
    kit = models.JSONField(default=list)

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
