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


class AuditEntry(models.Model):
    """Something that somebody did, or tried, which others may have to know of: who, when, from where. Never changed.

    name: as it was typed or as the user was called; deed: a word of accounts.audit; about: what it was done to, in words.
    """

    at = models.DateTimeField(auto_now_add=True, db_index=True)
    user = models.ForeignKey(
        settings.AUTH_USER_MODEL, on_delete=models.SET_NULL, null=True, related_name="audit_entries"
    )
    name = models.CharField(max_length=150)
    address = models.CharField(max_length=45)
    deed = models.CharField(max_length=30)
    about = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["-id"]
        indexes = [
            models.Index(fields=["deed", "name", "-at"], name="audit_name"),
            models.Index(fields=["deed", "address", "-at"], name="audit_address"),
        ]
