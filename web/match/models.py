"""Fits, kept by the content of the document they were made from."""

from django.db import models


class StoredFit(models.Model):
    """The fit of the match document whose digest this is. A fit depends on its document alone, so
    it is never stale."""

    digest = models.CharField(max_length=64, unique=True)
    fit = models.JSONField()
    created = models.DateTimeField(auto_now_add=True)
