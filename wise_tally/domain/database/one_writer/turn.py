"""Which transactions of a thread wait for their turn: all but those of rows in whose order nothing lies."""

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

WRITERS = 5_417_001
"""The number of the lock, any that nothing else in the database takes."""
IN_TURN = ContextVar("in_turn", default=True)


@contextmanager
def out_of_turn() -> Iterator[None]:
    """A transaction begun inside waits for no other."""
    before = IN_TURN.set(False)
    try:
        yield
    finally:
        IN_TURN.reset(before)
