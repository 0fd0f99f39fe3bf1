"""A lock that ends with whoever holds it, however that ends: of one file, between threads and processes of this machine."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path


@contextmanager
def alone(path: Path) -> Iterator[int | None]:
    """The lock of a file (made where it is missing) as an open file; None where somebody else has it.

    A process that is started with that file holds the lock, too.
    """
    lock, is_alone = os.open(path, os.O_CREAT | os.O_RDWR, 0o600), False
    try:
        with suppress(BlockingIOError):
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            is_alone = True
        yield lock if is_alone else None
    finally:
        os.close(lock)
