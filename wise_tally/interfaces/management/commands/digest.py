"""Send the briefs that are due; a scheduler runs it, say every hour."""

from typing import Any

from wise_tally.domain.org.clock import now
from wise_tally.interfaces.command_line import OneLineCommand, ensure_database
from wise_tally.web.findings.mailed import send_due


class Command(OneLineCommand):
    """Each brief goes out at most once a day, however often this runs."""

    help = "Send the briefs that are due by mail, each at most once a day; say what was sent."

    def handle(self, *args: Any, **options: Any) -> None:
        """One line a mail; exit status 1 where one failed."""
        ensure_database()
        sent = list(send_due(now()))
        for one in sent:
            self.stdout.write(f"{one.outcome}: {one.to}{f' ({one.why})' if one.why else ''}")
        if not sent:
            self.stdout.write("No brief is due.")
        if any(one.outcome == "failed" for one in sent):
            raise SystemExit(1)
