"""What is listened to from the start."""

from importlib import import_module
from pathlib import Path

from django.apps import AppConfig
from django.conf import settings


class WebConfig(AppConfig):
    """Every sign-in is marked with when it began, however it is made."""

    name = "wise_tally.web"

    def ready(self) -> None:
        """Begin to listen, and have the folders that are written to."""
        for folder in (settings.WORK_FOLDER, settings.STATIC_ROOT):
            Path(folder).mkdir(parents=True, exist_ok=True)
        import_module("wise_tally.web.request.sessions")
