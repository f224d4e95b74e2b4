"""The Django app of jobs."""

from django.apps import AppConfig


class JobsConfig(AppConfig):
    """Its label is ``jobs``."""

    name = "maestoso.server.jobs"
    label = "jobs"
