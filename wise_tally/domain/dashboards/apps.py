"""The name under which Django keeps these tables."""

from django.apps import AppConfig


class DashboardsConfig(AppConfig):
    """Its label is older than its folder, and stands in the database."""

    name = "wise_tally.domain.dashboards"
    label = "boards"
