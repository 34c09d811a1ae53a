"""The chunk store: immutable streams of samples as Arrow record batches in PostgreSQL."""

from django.db import models


class Stream(models.Model):
    """One recorded or computed track of a take, or what the cameras saw while the room was prepared (`recording`).

    `shape` is the shape of one sample; `run` made it, or None if recorded.

    `stamps`: pairs of sample number and seconds of day that the device showed.
    """

    take = models.ForeignKey("shoot.Take", on_delete=models.CASCADE, null=True, related_name="streams")
    recording = models.OneToOneField("stage.StageRecording", on_delete=models.CASCADE, null=True, related_name="stream")
    run = models.ForeignKey("bench.Run", on_delete=models.CASCADE, null=True, related_name="tracks")
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=20)
    rate = models.CharField(max_length=20)
    shape = models.JSONField()
    samples = models.BigIntegerField(default=0)
    stamps = models.JSONField(default=list)
    details = models.JSONField(default=dict)

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["take", "name"], condition=models.Q(run=None), name="one_recorded_stream"),
            models.UniqueConstraint(fields=["run", "name"], name="one_track_per_run"),
            models.CheckConstraint(
                condition=models.Q(take=None) ^ models.Q(recording=None), name="of_a_take_or_of_a_recording"
            ),
        ]


class Chunk(models.Model):
    stream = models.ForeignKey(Stream, on_delete=models.CASCADE, related_name="chunks")
    number = models.PositiveIntegerField()
    first_sample = models.BigIntegerField()
    samples = models.PositiveIntegerField()
    payload = models.BinaryField()

    class Meta:
        ordering = ["number"]
        constraints = [models.UniqueConstraint(fields=["stream", "number"], name="one_chunk_number")]
