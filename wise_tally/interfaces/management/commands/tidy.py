"""`manage.py tidy`: what has ended is taken away; `./tally serve` runs it once a day."""

from typing import Any

from django.core.management import BaseCommand, call_command

from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person, Role
from wise_tally.domain.org.sent_forms import forget_forms
from wise_tally.domain.org.sign_in_actions import end_sign_in


class Command(BaseCommand):
    """Sessions that ran out, what forms were sent, and the sign-ins and tokens of those whose last day has passed."""

    help = "Take away sessions that ran out, marks of forms that were sent, and sign-ins and tokens of leavers."

    def handle(self, *args: Any, **options: Any) -> None:
        """Do it."""
        call_command("clearsessions")
        forget_forms(now())
        clock = Viewer("", "the daily tidying", Role.ADMIN, ())
        for person in Person.objects.filter(active_to__lt=today()).select_related("user"):
            end_sign_in(clock, person, now())
