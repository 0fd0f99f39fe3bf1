"""What is listened to from the start."""

from importlib import import_module

from django.apps import AppConfig


class WebConfig(AppConfig):
    """Every sign-in is marked with when it began, however it is made."""

    name = "wise_tally.web"

    def ready(self) -> None:
        """Begin to listen."""
        import_module("wise_tally.web.request.sessions")
