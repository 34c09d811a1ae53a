"""Work that takes a while: one model for passes of a take, steps that prepare a room, and packages."""

from django.conf import settings
from django.db import models


class Run(models.Model):
    """One execution of something that takes a while. Newer ones supersede; none is deleted while something needs it.

    `kind` says who carries it out (settings.WORK_KINDS). What it is about: a take and, for passes that are about one
    person, a performer, and a character for those about one of theirs; or a room; or a package. It begins when `after` has ended well. `claim` is the execution that
    may write its results; `attempts` counts how often a worker took it up.
    """

    class State(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        FAILED = "failed"
        CANCELLED = "cancelled"

    kind = models.CharField(max_length=20, default="pass")
    name = models.CharField(max_length=20)
    take = models.ForeignKey("takes.Take", on_delete=models.CASCADE, null=True, related_name="runs")
    performer = models.ForeignKey("cast.Performer", on_delete=models.CASCADE, null=True, related_name="runs")
    character = models.ForeignKey("cast.Character", on_delete=models.CASCADE, null=True, related_name="runs")
    room = models.ForeignKey("stage.Room", on_delete=models.CASCADE, null=True, related_name="runs")
    package = models.ForeignKey("handover.Package", on_delete=models.CASCADE, null=True, related_name="builds")
    after = models.ForeignKey("self", on_delete=models.SET_NULL, null=True, related_name="followed_by")
    parameters = models.JSONField(default=dict)
    code_version = models.CharField(max_length=40, default="")
    state = models.CharField(max_length=10, choices=State.choices, default=State.QUEUED)
    progress = models.FloatField(default=0.0)
    message = models.TextField(blank=True)
    figures = models.JSONField(default=dict)
    snags = models.JSONField(default=list)
    cancel_asked = models.BooleanField(default=False)
    attempts = models.PositiveSmallIntegerField(default=0)
    claim = models.UUIDField(null=True)
    job = models.BigIntegerField(null=True)  # in the queue
    asked_by = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True)
    asked_at = models.DateTimeField(auto_now_add=True)
    begun_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)

    class Meta:
        ordering = ["id"]
        indexes = [models.Index(fields=["state"], name="run_state")]
        constraints = [
            models.CheckConstraint(
                condition=models.Q(take__isnull=False, room=None, package=None)
                | models.Q(take=None, room__isnull=False, package=None)
                | models.Q(take=None, room=None, package__isnull=False),
                name="run_is_about_one_thing",
            )
        ]

    def __str__(self):
        return f"{self.kind} {self.name} {self.pk}"


ACTIVE = (Run.State.QUEUED, Run.State.RUNNING)
