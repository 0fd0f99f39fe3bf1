"""Entry point of all commands: `python -m wise_tally COMMAND`."""

import os

from django.core.management import execute_from_command_line


def main() -> None:
    """Run a command with the production settings, unless others are named."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wise_tally.config.settings.production")
    execute_from_command_line()


if __name__ == "__main__":
    main()
