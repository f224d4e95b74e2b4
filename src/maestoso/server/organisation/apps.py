"""The Django app of the organisation's settings."""

from django.apps import AppConfig


class OrganisationConfig(AppConfig):
    """Its label is ``organisation``."""

    name = "maestoso.server.organisation"
    label = "organisation"
