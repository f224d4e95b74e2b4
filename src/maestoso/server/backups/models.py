"""Which backups were made, and what became of them."""

from __future__ import annotations

from django.db import models


class Backup(models.Model):
    """One backup, or why none was made (``trouble``).

    ``content`` tells it from every other: the digest of what it holds, which the file says too. ``tried_at``:
    the file itself was opened and its records were loaded, by somebody who has the key. ``bucket_at``: since
    when it is in the bucket; ``bucket_trouble`` is why it was not when that was tried last.
    """

    at = models.DateTimeField()
    file = models.CharField(max_length=1000)
    size = models.PositiveBigIntegerField(default=0)
    content = models.CharField(max_length=64, blank=True, default="", db_index=True)
    by = models.CharField(max_length=150)
    trouble = models.CharField(max_length=1000, blank=True, default="")
    tried_at = models.DateTimeField(null=True)
    bucket_at = models.DateTimeField(null=True)
    bucket_tried_at = models.DateTimeField(null=True)
    bucket_trouble = models.CharField(max_length=1000, blank=True, default="")

    class Meta:
        ordering = ["-at"]


class BackupWanted(models.Model):
    """Somebody wants one now; the keeper makes it, and takes this away with it."""

    by = models.CharField(max_length=150)
    at = models.DateTimeField()
