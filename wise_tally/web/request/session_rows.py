"""Sessions in rows, for several servers on one database: a page that remembers something for its reader waits for nobody who writes."""

from typing import Any

from django.contrib.sessions.backends.db import SessionStore as RowSessions

from wise_tally.domain.database.one_writer.turn import out_of_turn


class SessionStore(RowSessions):
    """Django's sessions in the database; their rows are no part of the book, so their order says nothing."""

    def save(self, *args: Any, **options: Any) -> None:
        """Write the session down."""
        with out_of_turn():
            super().save(*args, **options)
