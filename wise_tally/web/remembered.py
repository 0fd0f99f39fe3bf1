"""What pages read and computed for a selection, remembered until somebody writes something.

Values are declared on the filter line (`core/derived.py`) where they are computed, and hold nothing that differs between
two viewers of the same selection but what they are asked with.
"""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, TypeVar

from django.db import connection

from wise_tally.book.attributes import attributes_of
from wise_tally.core.book import Book
from wise_tally.core.derived import Cache, derived
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.org.models import AuditEntry

MOST_SELECTIONS = 16
"""A selection of a book of 100,000 deals takes two to three megabytes."""
STATES = ("deal changed", "deal change put back")
"""What the audit says of a deal's next state, which touches nothing beside the book."""
MOST_BESIDE = 32
Value = TypeVar("Value")


class Remembered:
    """Caches by selection, the last used ones, as of the audit's last entry: what is written beside the book raises no other number."""

    def __init__(self) -> None:
        self._last_entry = 0
        self._caches: OrderedDict[Hashable, tuple[Any, Cache]] = OrderedDict()
        self._lock = Lock()

    def of(self, selection: Hashable, of_whom: tuple[Any, ...]) -> Cache:
        """The cache of a selection in the very objects `of_whom`; one of its own within a transaction, which may be taken back."""
        if connection.in_atomic_block:
            return Cache()
        last = AuditEntry.objects.order_by("-pk").values_list("pk", flat=True).first() or 0
        key = (selection, *map(id, of_whom))
        with self._lock:
            if last != self._last_entry:
                self._last_entry, self._caches = last, OrderedDict()
            _, cache = self._caches.setdefault(key, (of_whom, Cache()))
            self._caches.move_to_end(key)
            if len(self._caches) > MOST_SELECTIONS:
                self._caches.popitem(last=False)
            return cache


@derived()
def remembered(book: Book) -> Remembered:
    """What is remembered of a book; it goes with the book."""
    del book
    return Remembered()


def read_once(book: Book, key: Hashable, read: Callable[[], Value]) -> Value:
    """What `read` gives of leads and activities: read once for all the states that deals take, until anything else is written.

    It is kept with the attributes, so it goes when there is a new deal, and holds for the reference data it was read with alone.
    """
    if connection.in_atomic_block:
        return read()
    last = AuditEntry.objects.exclude(action__in=STATES).order_by("-pk").values_list("pk", flat=True).first()
    remembered: OrderedDict[Hashable, tuple[int | None, ReferenceData, Value]] = attributes_of(book).cached(
        "beside", OrderedDict
    )
    if (entry := remembered.get(key)) is None or entry[0] != last or entry[1] is not book.reference:
        entry = remembered[key] = (last, book.reference, read())
        while len(remembered) > MOST_BESIDE:
            remembered.popitem(last=False)
    return entry[2]
