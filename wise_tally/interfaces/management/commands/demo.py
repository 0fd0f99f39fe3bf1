"""`manage.py demo`: a database with the demo of today, made when missing."""

import time
from datetime import date
from typing import Any

from django.core.management import BaseCommand, call_command

from wise_tally.demo.build import MADE, build_demo
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import AuditEntry, BookNumber
from wise_tally.interfaces.command_line import ensure_database


class Command(BaseCommand):
    """Make the demo; a demo of another day that nobody changed is made anew."""

    help = "Create the demo database if it does not exist."

    def handle(self, *args: Any, **options: Any) -> None:
        """Build once a day at most, and never over what somebody typed."""
        ensure_database()
        day = today()
        if Deal.objects.exists():
            if not stale_and_untouched(day):
                return
            call_command("flush", verbosity=0, interactive=False)
        started = time.monotonic()
        build_demo(day, now())
        print(f"demo of {day} made in {time.monotonic() - started:.1f} s")


def stale_and_untouched(day: date) -> bool:
    """Whether the demo there was made for another day and has not been changed since."""
    made = AuditEntry.objects.filter(action=MADE).order_by("-pk").first()
    if made is None:
        return False
    made_for, *_, number = made.detail.replace(",", "").split()
    return made_for != str(day) and int(number) == BookNumber.objects.get(pk=1).number
