"""Entry point of all commands: `python -m wise_tally COMMAND`."""

import os
import sys

from django.core.exceptions import ImproperlyConfigured
from django.core.management import execute_from_command_line


def main() -> None:
    """Run a command with the production settings, unless others are named. What the machine or a setting lacks is one line."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wise_tally.config.settings.production")
    try:
        execute_from_command_line()
    except ImproperlyConfigured as wrong:
        raise SystemExit(f"{wrong}") from None
    except Exception as error:
        from wise_tally.domain.storage_faults import words_of

        if "--traceback" in sys.argv or not (words := words_of(error)):
            raise
        raise SystemExit(words) from None


if __name__ == "__main__":
    main()
