"""Who may do what in which production."""

from django.conf import settings
from django.db import models


class Role(models.TextChoices):
    TECHNICIAN = "technician"
    CLEAN_UP = "clean-up"
    SUPERVISOR = "supervisor"
    ANIMATOR = "animator"


class Membership(models.Model):
    """One person's role in one production; without it they see nothing of it."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="memberships")
    production = models.ForeignKey("shoot.Production", on_delete=models.CASCADE, related_name="memberships")
    role = models.CharField(max_length=20, choices=Role.choices)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["user", "production"], name="one_role_per_production")]
