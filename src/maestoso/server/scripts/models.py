"""Rows of the script library, and of secrets, which are only ever written."""

from __future__ import annotations

import hashlib

from django.db import models

from maestoso.core.planning.inputs import ScriptText


class Script(models.Model):
    """A script as it is now; runs keep the text that they ran, plans the hash of what was looked at."""

    name = models.CharField(max_length=60, unique=True)
    interpreter = models.CharField(max_length=20)
    text = models.TextField()
    note = models.CharField(max_length=400, blank=True)
    author = models.CharField(max_length=150)
    saved_at = models.DateTimeField()
    revision = models.PositiveIntegerField(default=1)

    class Meta:
        ordering = ["name"]

    def core(self) -> ScriptText:
        """The script as a value."""
        digest = hashlib.sha256(self.text.encode()).hexdigest()
        return ScriptText(name=self.name, interpreter=self.interpreter, text=self.text, sha256=digest)


class Secret(models.Model):
    """A value by its name, encrypted; nothing reads it out but what sends it to a site."""

    name = models.CharField(max_length=60, unique=True)
    sealed = models.TextField()
    author = models.CharField(max_length=150)
    saved_at = models.DateTimeField()

    class Meta:
        ordering = ["name"]
