"""The tables of briefs."""

from django.apps import AppConfig


class BriefsConfig(AppConfig):
    """Briefs."""

    name = "wise_tally.domain.briefs"
    label = "briefs"
