"""The manager of everything that can be removed: what waits to be deleted is not found by it."""

from django.db import models


class Kept(models.Manager):
    """Rows without a removal. A model that uses it has `everything` beside it, for those with one too."""

    def get_queryset(self):
        return super().get_queryset().filter(removal=None)
