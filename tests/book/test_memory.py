"""What a server gives back of its memory."""

import gc
import os
import threading
from dataclasses import replace
from pathlib import Path
from weakref import ref

import numpy as np
import pytest

from tests.support.world import World
from wise_tally.book import store
from wise_tally.book.store import books
from wise_tally.book.superseded import Superseded, give_back_freed
from wise_tally.core.derived import Declaration, Grows
from wise_tally.domain.org.book_number import revisions_added


def resident():
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def test_pages_between_pieces_still_in_use_go_back_to_the_machine():
    """Pieces small enough to lie in the heap, of which every tenth stays, so that its end does not sink."""
    pieces = [np.ones(8_000) for _ in range(3_000)]
    kept = pieces[::10]
    size = sum(piece.nbytes for piece in pieces)
    held = resident()
    del pieces
    give_back_freed()
    assert held - resident() > size * 0.7
    assert all(piece[0] == 1 for piece in kept)


@pytest.fixture
def only_when_asked():
    """Python's collector does nothing by itself."""
    gc.collect()
    gc.disable()
    yield
    gc.enable()


@pytest.mark.django_db
def test_a_superseded_book_goes_when_the_last_that_may_hold_it_has_answered(tmp_path, only_when_asked):
    world = World()
    world.deal("d", ("2026-11-01", "s1", 1000, "2026-12-01"))
    world.read(tmp_path)
    superseded, began, may_end, asked = Superseded(), threading.Event(), threading.Event(), []

    def answer():
        superseded._began()
        began.set()
        may_end.wait(10)
        asked.clear()
        superseded._ended()

    slow = threading.Thread(target=answer)
    slow.start()
    began.wait(10)
    superseded._began()
    book = replace(books.current())
    held = ref(book)
    # As what is derived from it points back to it, it does not go by itself.
    book.cache.keep(Declaration(list, 0, Grows.DROPPED, None), (), [book])
    asked.append(book)
    superseded.add(book)
    del book
    superseded._ended()
    assert held() is not None, "the slow one still asks it"
    may_end.set()
    slow.join()
    assert held() is None


def test_after_the_first_page_of_a_newer_book_there_is_no_older(demo, sign_in, monkeypatch, only_when_asked):
    monkeypatch.setattr(store, "LARGE", 0)
    client, add = sign_in("m1"), Superseded.add
    # The demo's own book is kept for other tests.
    revisions_added()
    client.get("/forecast/")
    held, answering = ref(books.current()), []
    monkeypatch.setattr(Superseded, "add", lambda self, book: (answering.append(set(self._answering)), add(self, book)))
    revisions_added()
    client.get("/forecast/")
    assert held() is None
    assert answering == [{threading.get_ident()}], "the page that found the newer one was being answered"
