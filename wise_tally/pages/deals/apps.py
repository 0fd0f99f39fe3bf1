"""The label of these pages."""

from django.apps import AppConfig


class DealPagesConfig(AppConfig):
    """The tables of deals have the short label."""

    name = "wise_tally.pages.deals"
    label = "deal_pages"
