"""Books that newer ones took the place of: freed once nobody who asked before needs them any more.

What is derived from a book points back to it. Python's collector counts objects, not their bytes: it would let dozens of books of a
few large arrays pile up before it looks.
"""

import ctypes
import gc
from functools import cache
from threading import Lock, get_ident
from weakref import ref

from django.core.signals import request_finished, request_started

from wise_tally.core.book import Book

_trim = getattr(ctypes.CDLL(None), "malloc_trim", None)


def give_back_freed() -> None:
    """Return freed pages of every size to the machine, where the C library can; takes a few milliseconds."""
    if _trim is not None:
        _trim(0)


@cache
def pass_over_what_stays() -> None:
    """Let no pass of the collector look again at what is there before the first book: it stays as long as the process."""
    gc.collect()
    gc.freeze()


class Superseded:
    """Each such book with the threads that were answering when it was superseded, which may hold it until they are done."""

    def __init__(self) -> None:
        self._answering: set[int] = set()
        self._held: list[tuple[ref[Book], set[int]]] = []
        self._has_more = False
        self._lock = Lock()
        request_started.connect(self._began)
        request_finished.connect(self._ended)

    def add(self, book: Book) -> None:
        """A newer book took its place just now."""
        with self._lock:
            self._held.append((ref(book), set(self._answering)))
            self._has_more = True

    def _began(self, **_signal: object) -> None:
        with self._lock:
            self._answering.add(get_ident())

    def _ended(self, **_signal: object) -> None:
        """Free, once the answer is out, the books that nobody holds, and again when the last that may hold one has ended."""
        with self._lock:
            due, self._has_more = self._has_more, False
            self._answering.discard(get_ident())
            for _, threads in self._held:
                threads.discard(get_ident())
            free = [book for book, threads in self._held if not threads]
            self._held = [(book, threads) for book, threads in self._held if threads]
        if due or any(book() is not None for book in free):
            gc.collect()
            give_back_freed()
