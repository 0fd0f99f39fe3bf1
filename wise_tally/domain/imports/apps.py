"""The name under which Django keeps these tables."""

from django.apps import AppConfig


class ImportsConfig(AppConfig):
    """Its label is older than its folder, and stands in the database."""

    name = "wise_tally.domain.imports"
    label = "exchange"
