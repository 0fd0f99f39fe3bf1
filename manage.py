"""Entry point of Django's commands; `./tally` calls it."""

import os
import sys

if __name__ == "__main__":
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "wise_tally.config.settings.production")
    from django.core.management import execute_from_command_line

    execute_from_command_line(sys.argv)
