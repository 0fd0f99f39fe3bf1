"""What is listened to from the start."""

from importlib import import_module

from django.apps import AppConfig


class ScopeConfig(AppConfig):
    """Every sign-in is marked with when it began, however it is made."""

    name = "wise_tally.scope"

    def ready(self) -> None:
        """Begin to listen."""
        import_module("wise_tally.scope.sessions")
