"""PostgreSQL in which one transaction writes at a time, from its beginning, as SQLite's do.

What numbers its rows in the order of its transactions may ask for rows above the last number it knows. Source: explicit
locking, advisory locks, in the manual of PostgreSQL 15, section 13.3.5.
"""

from django.db.backends.postgresql import base, operations

from wise_tally.domain.database.one_writer.turn import IN_TURN, WRITERS


class DatabaseOperations(operations.DatabaseOperations):
    """Those of PostgreSQL, with orders as in SQLite."""

    compiler_module = "wise_tally.domain.database.one_writer.compiler"


class DatabaseWrapper(base.DatabaseWrapper):
    """Transactions wait for their turn, as long as `lock_timeout` lets them; reads outside of them wait for nothing."""

    ops_class = DatabaseOperations

    def _set_autocommit(self, autocommit: bool) -> None:
        super()._set_autocommit(autocommit)  # type: ignore[misc]
        if autocommit or not IN_TURN.get():
            return
        try:
            with self.wrap_database_errors, self.connection.cursor() as cursor:
                cursor.execute("SELECT pg_advisory_xact_lock(%s)", [WRITERS])
        except BaseException:
            # Who had no turn has no transaction either.
            self.connection.rollback()
            super()._set_autocommit(True)  # type: ignore[misc]
            raise
