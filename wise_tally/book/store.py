"""The book kept in memory per process, keyed by the book number that every write raises."""

from dataclasses import replace
from threading import Lock, Thread
from time import monotonic

import numpy as np
from django.conf import settings
from django.db import connection

from wise_tally.book import column_file, rows
from wise_tally.book.attributes import StoredAttributes
from wise_tally.book.loss_reasons import NO_REASONS, LostReasons
from wise_tally.book.stored_book import COUNTERS, Counters, StoredBook, renumbered
from wise_tally.book.superseded import Superseded, pass_over_what_stays
from wise_tally.core.book import Book, Deals
from wise_tally.core.derived import Growth
from wise_tally.core.growth import take_over, with_added
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.database import one_snapshot
from wise_tally.domain.org.models import BookNumber

NEVER_WRITTEN = (0, 0, 0, 0)
LARGE = 20_000
"""Deals of a book from which a file of its columns is worth writing, and a superseded one a pass of the collector."""
BEHIND, MINUTES_BEHIND = 2_000, 10
"""So many revisions or minutes after which a file is renewed."""


class Books:
    """Readers take a reference to the current snapshot and need no lock; one writer at a time swaps it."""

    def __init__(self) -> None:
        self._current: StoredBook | None = None
        self._lock = Lock()
        self._reasons = NO_REASONS
        self._superseded = Superseded()
        self._filed = (NEVER_WRITTEN, 0, 0.0)
        self._writing: Thread | None = None

    def stored(self) -> StoredBook:
        """The book of the newest number in the database; only what is newer is read."""
        newest = BookNumber.objects.filter(pk=1).values_list(*COUNTERS).first() or NEVER_WRITTEN
        current = self._current
        if current is not None and current.number == newest[0]:
            return current
        with self._lock:
            if self._current is None or self._current.number != newest[0]:
                self._current = self._renewed(self._current, newest)
            return self._current

    def number_in_memory(self) -> int:
        """The number of the book that is in memory, whether or not the database has a newer one; 0 without any."""
        return self._current.number if self._current else 0

    def current(self) -> Book:
        """The newest book."""
        return self.stored().book

    def lost_reasons(self) -> LostReasons:
        """Why deals were lost, up to the newest book."""
        current = self.stored()
        with self._lock:
            if self._reasons.last < current.last_revision:
                self._reasons = self._reasons.read_on(current.deal_numbers, current.last_revision)
            return self._reasons

    def forget(self) -> None:
        """Drop everything, as after a change of database."""
        with self._lock:
            self._current, self._reasons = None, NO_REASONS
            self._filed = (NEVER_WRITTEN, 0, 0.0)

    def finish_writing(self) -> None:
        """Wait for the file, as before the process is forked."""
        if self._writing is not None:
            self._writing.join()

    def _renewed(self, old: StoredBook | None, newest: Counters) -> StoredBook:
        with one_snapshot():
            # A number that fell belongs to a database filled anew.
            if old is None or old.epoch != newest[2] or old.number > newest[0]:
                self._reasons = NO_REASONS
                pass_over_what_stays()
                renewed = self._first(newest)
                self._file(renewed)
                return renewed
            put_back = rows.deals_put_back(old.last_revision)
            if put_back:
                self._reasons = NO_REASONS
            renewed, growth = _extended(old, newest, put_back)
            self._file(renewed)
        take_over(old.book, renewed.book, growth)
        if len(old.deal_numbers) >= LARGE:
            self._superseded.add(old.book)
        return renewed

    def _first(self, newest: Counters) -> StoredBook:
        """The book as its file has it, with what came since; read from the rows where the file cannot be used."""
        filed = column_file.load(newest) if settings.BOOK_FILE else None
        if filed is None:
            return _whole(newest)
        self._filed = (_counters(filed), filed.last_revision, monotonic())
        if filed.number == newest[0]:
            return filed
        return _extended(filed, newest, rows.deals_put_back(filed.last_revision))[0]

    def _file(self, stored: StoredBook) -> None:
        """Have the file written once this book is far enough from what it holds; the writing itself waits for nothing."""
        counters, last, written_at = self._filed
        behind, late = stored.last_revision - last, monotonic() - written_at > 60 * MINUTES_BEHIND
        due = counters[2] != stored.epoch or behind > BEHIND or (late and counters[0] != stored.number)
        if not settings.BOOK_FILE or not due or len(stored.deal_numbers) < LARGE or connection.in_atomic_block:
            return
        self._filed = (_counters(stored), stored.last_revision, monotonic())
        given = (stored, column_file.identity(stored.last_revision), column_file.path())
        self._writing = Thread(target=column_file.write, args=given, name="book file")
        self._writing.start()


def _counters(stored: StoredBook) -> Counters:
    return stored.number, stored.reference, stored.epoch, stored.attributes


def _whole(newest: Counters) -> StoredBook:
    reference = rows.read_reference()
    numbers, deals = rows.read_deals(reference)
    last, revisions = rows.last_revision_number(), rows.read_revisions(numbers)
    book = Book(
        reference, deals, revisions.in_effect(), rows.read_credits(numbers), newest[0], StoredAttributes(numbers)
    )
    return StoredBook(book, *newest, numbers, last)


def _extended(old: StoredBook, newest: Counters, put_back: tuple[int, ...]) -> tuple[StoredBook, Growth]:
    """The old book with what is newer, and what of its revisions came and went."""
    has_new_reference = old.reference != newest[1]
    reference = rows.read_reference() if has_new_reference else old.book.reference
    last_deal = int(old.deal_numbers[-1]) if len(old.deal_numbers) else 0
    numbers, added_deals = rows.read_deals(reference, last_deal)
    all_numbers = np.r_[old.deal_numbers, numbers]
    again = np.searchsorted(all_numbers, np.array(put_back, dtype=np.int64))
    last, added = rows.last_revision_number(), rows.read_revisions(all_numbers, old.last_revision, put_back)
    revisions, growth = with_added(old.book.revisions, added, again)
    deals = _joined(old.book.deals, added_deals, old.book, reference)
    # A deal that gets a revision of its own no longer lacks its history, one whose only change was put back lacks it again.
    short = deals.short_form.copy()
    short[added.deal[added.deal < len(old.deal_numbers)]] = False
    short[again] = rows.came_short(put_back)
    if (short != deals.short_form).any():
        deals = replace(deals, short_form=short)
    credits = rows.read_credits(all_numbers) if has_new_reference else old.book.credits
    same = not has_new_reference and old.attributes == newest[3] and len(numbers) == 0
    attributes = old.book.attributes if same else StoredAttributes(all_numbers)
    book = Book(reference, deals, revisions, credits, newest[0], attributes)
    return StoredBook(book, *newest, all_numbers, last), growth


def _joined(old: Deals, added: Deals, book: Book, reference: ReferenceData) -> Deals:
    """Old columns with the new deals after them; type and source indices follow the new reference data."""
    if reference is book.reference and not added.key:
        return old
    known = replace(
        old,
        deal_type=renumbered(old.deal_type, book.reference.deal_types, reference.deal_types),
        source=renumbered(old.source, book.reference.sources, reference.sources),
    )
    if not added.key:
        return known
    columns = [np.r_[getattr(known, name), getattr(added, name)] for name in list(Deals.__dataclass_fields__)[1:]]
    return Deals(old.key + added.key, *columns)


books = Books()
