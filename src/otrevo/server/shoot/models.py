"""Productions, days, slates and takes."""

from fractions import Fraction

from django.conf import settings
from django.db import models

from otrevo.core.timecode.labels import TimecodeFormat


class Production(models.Model):
    """What is settled once: rates, timecode, naming."""

    name = models.CharField(max_length=80, unique=True)
    code = models.CharField(max_length=12)
    timecode_rate = models.CharField(max_length=16, default="30000/1001")
    drop_frame = models.BooleanField(default=True)
    delivery_rate = models.CharField(max_length=16, default="30000/1001")
    naming_pattern = models.CharField(max_length=120, default="{production}_{slate}_t{take:02d}_{performer}")

    @property
    def timecode_format(self):
        return TimecodeFormat(Fraction(self.timecode_rate), self.drop_frame)


class ShootDay(models.Model):
    production = models.ForeignKey(Production, on_delete=models.CASCADE, related_name="days")
    number = models.PositiveIntegerField()
    date = models.DateField()
    stage = models.CharField(max_length=60)

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["production", "number"], name="one_day_number")]


class Slate(models.Model):
    """A shot to get. `performance` names the motion the simulated stage performs for it; `props` the shipped props in it."""

    day = models.ForeignKey(ShootDay, on_delete=models.CASCADE, related_name="slates")
    name = models.CharField(max_length=12)
    title = models.CharField(max_length=120)
    performer = models.ForeignKey("cast.Performer", on_delete=models.PROTECT, related_name="slates")
    performance = models.CharField(max_length=40)
    warm_up = models.BooleanField(default=False)
    props = models.JSONField(default=list)

    class Meta:
        ordering = ["name"]
        constraints = [models.UniqueConstraint(fields=["day", "name"], name="one_slate_name")]


class Take(models.Model):
    """One recording of a slate. Times are seconds from zero; zero is `first_timecode_frame` in the production's code."""

    class Status(models.TextChoices):
        OPEN = "open"
        CIRCLED = "circled"
        HOLD = "hold"
        NO_GOOD = "no good"

    slate = models.ForeignKey(Slate, on_delete=models.CASCADE, related_name="takes")
    number = models.PositiveIntegerField()
    status = models.CharField(max_length=10, choices=Status.choices, default=Status.OPEN)
    note = models.TextField(blank=True)
    rolled_at = models.DateTimeField(auto_now_add=True)
    rolled_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    first_timecode_frame = models.BigIntegerField(default=0)
    duration_s = models.FloatField(default=0.0)
    in_s = models.FloatField(default=0.0)
    out_s = models.FloatField(default=0.0)
    calibration = models.ForeignKey(
        "cast.PerformerCalibration", on_delete=models.PROTECT, null=True, related_name="takes"
    )
    stage_calibration = models.ForeignKey(
        "stage.StageCalibration", on_delete=models.PROTECT, null=True, related_name="takes"
    )
    picture = models.JSONField(default=dict)
    made_from = models.CharField(max_length=20, default="floor")

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["slate", "number"], name="one_take_number")]

    @property
    def production(self):
        return self.slate.day.production

    @property
    def production_id(self):
        return self.slate.day.production_id

    @property
    def zero_s(self):
        return float(self.production.timecode_format.seconds(self.first_timecode_frame))


class Change(models.Model):
    """One entry of the history: what was changed, from what, to what, and whether it has been undone."""

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="changes")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    words = models.CharField(max_length=160)
    before = models.JSONField(default=dict)
    after = models.JSONField(default=dict)
    undone = models.BooleanField(default=False)

    class Meta:
        ordering = ["id"]
