"""Productions, days and slates. What has a removal was removed, and waits to be deleted."""

from fractions import Fraction

from django.db import models

from otrevo.core.timecode.labels import TimecodeFormat
from otrevo.server.kept import Kept


class Production(models.Model):
    """What is settled once: rates, timecode, naming."""

    name = models.CharField(max_length=80, unique=True)
    code = models.CharField(max_length=12)
    timecode_rate = models.CharField(max_length=16, default="30000/1001")
    drop_frame = models.BooleanField(default=True)
    delivery_rate = models.CharField(max_length=16, default="30000/1001")
    naming_pattern = models.CharField(max_length=120, default="{production}_{slate}_t{take:02d}_{performer}")
    removal = models.ForeignKey("keeping.Removal", on_delete=models.SET_NULL, null=True, related_name="+")

    objects = Kept()
    everything = models.Manager()

    @property
    def timecode_format(self):
        return TimecodeFormat(Fraction(self.timecode_rate), self.drop_frame)


class ShootDay(models.Model):
    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="days")
    number = models.PositiveIntegerField()
    date = models.DateField()
    stage = models.CharField(max_length=60)
    removal = models.ForeignKey("keeping.Removal", on_delete=models.SET_NULL, null=True, related_name="+")

    objects = Kept()
    everything = models.Manager()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["production", "number"], name="one_day_number")]


class Slate(models.Model):
    """A shot to get. `props` names the shipped props in it."""

    day = models.ForeignKey(ShootDay, on_delete=models.CASCADE, related_name="slates")
    name = models.CharField(max_length=12)
    title = models.CharField(max_length=120)
    performer = models.ForeignKey("cast.Performer", on_delete=models.PROTECT, related_name="slates")
    warm_up = models.BooleanField(default=False)
    props = models.JSONField(default=list)
    removal = models.ForeignKey("keeping.Removal", on_delete=models.SET_NULL, null=True, related_name="+")

    objects = Kept()
    everything = models.Manager()

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["day", "name"], name="one_slate_name")]
