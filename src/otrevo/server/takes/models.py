"""Takes: who is in them, what was recorded, what was computed from it, what was repaired and changed."""

from django.conf import settings
from django.db import models
from django.utils import timezone

from otrevo.server.kept import Kept


class Take(models.Model):
    """One recording of a slate. Times are seconds from zero; zero is `first_timecode_frame` in the production's code.

    version: counts every change of what people set; removal: it was removed, and waits to be deleted.
    """

    class Status(models.TextChoices):
        OPEN = "open"
        CIRCLED = "circled"
        HOLD = "hold"
        NO_GOOD = "no good"

    slate = models.ForeignKey("shoot.Slate", on_delete=models.CASCADE, related_name="takes")
    number = models.PositiveIntegerField()
    status = models.CharField(max_length=10, choices=Status.choices, default=Status.OPEN)
    note = models.TextField(blank=True)
    rolled_at = models.DateTimeField(auto_now_add=True)
    rolled_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    first_timecode_frame = models.BigIntegerField(default=0)
    duration_s = models.FloatField(default=0.0)
    in_s = models.FloatField(default=0.0)
    out_s = models.FloatField(default=0.0)
    stage_calibration = models.ForeignKey(
        "stage.StageCalibration", on_delete=models.PROTECT, null=True, related_name="takes"
    )
    picture = models.JSONField(default=dict)
    made_from = models.CharField(max_length=20, default="floor")
    version = models.PositiveIntegerField(default=0)
    removal = models.ForeignKey("keeping.Removal", on_delete=models.SET_NULL, null=True, related_name="+")

    objects = Kept()
    everything = models.Manager()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["slate", "number"], name="one_take_number")]

    def __str__(self):
        return f"slate {self.slate.name} take {self.number}"

    @property
    def production(self):
        return self.slate.day.production

    @property
    def production_id(self):
        return self.slate.day.production_id

    @property
    def zero_s(self):
        return float(self.production.timecode_format.seconds(self.first_timecode_frame))


class Appearance(models.Model):
    """One performer in one take: what they wear, the calibration they are solved with, the characters they play.

    characters: ids of those played in this take; None: as the production says.
    """

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="appearances")
    performer = models.ForeignKey("cast.Performer", on_delete=models.PROTECT, related_name="appearances")
    kit = models.JSONField(default=list)
    calibration = models.ForeignKey(
        "cast.PerformerCalibration", on_delete=models.PROTECT, null=True, related_name="appearances"
    )
    characters = models.JSONField(null=True)

    class Meta:
        ordering = ["id"]
        constraints = [models.UniqueConstraint(fields=["take", "performer"], name="one_appearance_in_a_take")]


class Change(models.Model):
    """One entry of the history: what was changed, from what, to what, and whether it has been undone.

    version: the take's after it was made, undone or made again.
    """

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="changes")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)
    words = models.CharField(max_length=160)
    before = models.JSONField(default=dict)
    after = models.JSONField(default=dict)
    undone = models.BooleanField(default=False)
    version = models.PositiveIntegerField(default=0)

    class Meta:
        ordering = ["id"]


class Mend(models.Model):
    """One reversible repair of a performer's markers; `active` is false once it has been taken back."""

    take = models.ForeignKey(Take, on_delete=models.CASCADE, related_name="mends")
    performer = models.ForeignKey("cast.Performer", on_delete=models.PROTECT, null=True, related_name="mends")
    document = models.JSONField()
    words = models.CharField(max_length=160)
    active = models.BooleanField(default=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["id"]


class Stream(models.Model):
    """One recorded or computed track of a take, or what the cameras saw while the room was prepared (`recording`).

    It is about a performer, or about a prop (by name), or else about the room. `shape` is the shape of one sample;
    `run` made it, or None if recorded. `stamps`: pairs of sample number and seconds of day that the device showed.
    `clock` of a computed track: {"offset_s", "drift_ppm"}, by which sample i lies at offset + i / rate * (1 + drift)
    seconds of the take; recorded streams have theirs from the newest line-up.
    """

    take = models.ForeignKey(Take, on_delete=models.CASCADE, null=True, related_name="streams")
    recording = models.OneToOneField("stage.StageRecording", on_delete=models.CASCADE, null=True, related_name="stream")
    run = models.ForeignKey("work.Run", on_delete=models.CASCADE, null=True, related_name="tracks")
    performer = models.ForeignKey("cast.Performer", on_delete=models.PROTECT, null=True, related_name="streams")
    prop = models.CharField(max_length=60, blank=True)
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=20)
    rate = models.CharField(max_length=20)
    shape = models.JSONField()
    samples = models.BigIntegerField(default=0)
    stamps = models.JSONField(default=list)
    clock = models.JSONField(null=True)
    details = models.JSONField(default=dict)

    class Meta:
        constraints = [
            models.UniqueConstraint(
                fields=["take", "performer", "prop", "name"], condition=models.Q(run=None, take__isnull=False),
                nulls_distinct=False, name="one_recorded_stream_of_a_subject",
            ),
            models.UniqueConstraint(
                fields=["run", "performer", "prop", "name"], condition=models.Q(run__isnull=False),
                nulls_distinct=False, name="one_track_of_a_subject_in_a_run",
            ),
            models.CheckConstraint(
                condition=models.Q(take=None) ^ models.Q(recording=None), name="of_a_take_or_of_a_recording"
            ),
        ]  # fmt: skip


class Piece(models.Model):
    """Samples as an Arrow IPC stream of float32, or as Parquet. Never changed, and kept once, whatever streams they are in.

    kept_at: when somebody wanted it kept the last time; one that is in no stream is deleted some time after that.
    """

    sha256 = models.BinaryField(max_length=32, unique=True)
    payload = models.BinaryField()
    kept_at = models.DateTimeField(default=timezone.now)


class Chunk(models.Model):
    """A piece in its place in a stream."""

    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="chunks")
    number = models.PositiveIntegerField()
    first_sample = models.BigIntegerField()
    samples = models.PositiveIntegerField()
    piece = models.ForeignKey(Piece, on_delete=models.PROTECT, related_name="chunks")

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["stream", "number"], name="one_chunk_number")]
