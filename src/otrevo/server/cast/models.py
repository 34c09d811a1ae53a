"""Performers, their kits and the calibrations their warm-ups gave. Calibrations are versions and never edited."""

from django.db import models

KIT = ("optical", "suit", "gloves", "face")  # what the simulated stage can put on a performer


class Performer(models.Model):
    """`kit` lists the devices worn; `body_seed` is the body the simulated stage gives this performer."""

    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="performers")
    name = models.CharField(max_length=60)
    height_m = models.FloatField()
    kit = models.JSONField(default=list)
    body_seed = models.PositiveIntegerField(default=1)

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
