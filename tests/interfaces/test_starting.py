"""What a server does before its port answers."""

import os

import pytest
from django.contrib.sessions.models import Session

from tests.support.world import World
from wise_tally.book.store import books
from wise_tally.config import serving
from wise_tally.domain.org.book_number import present_number
from wise_tally.domain.org.models import AuditEntry
from wise_tally.interfaces import starting


def test_a_start_looks_at_pages_for_an_administrator_and_leaves_no_trace(demo, monkeypatch):
    """A page that fails would fail the start; what is looked at is computed for everybody."""
    seen = []
    look_at = starting._look_at

    def looked(name, person, viewer):
        answer = look_at(name, person, viewer)
        seen.append((name, person.role, answer.status_code))
        return answer

    monkeypatch.setattr(starting, "_look_at", looked)
    books.forget()
    before = present_number().number, AuditEntry.objects.count(), Session.objects.count()
    starting.first_figures()
    starting.first_figures()
    assert seen == [(name, "admin", 200) for name in starting.PAGES]
    assert (present_number().number, AuditEntry.objects.count(), Session.objects.count()) == before
    assert books.number_in_memory() == before[0]


@pytest.mark.django_db
def test_a_firm_of_nobody_starts(tmp_path):
    starting.first_figures()
    World().read(tmp_path)
    starting.first_figures()


def test_a_server_holds_the_book_until_its_workers_have_it(demo, monkeypatch):
    """A book that the server kept would stay for ever, as it was at the start."""
    monkeypatch.setattr(serving, "workers", 2)
    serving.when_ready(None)
    number, held = books.current().revision_number, []
    for _ in range(2):
        child = os.fork()
        if not child:
            os._exit(0 if books.number_in_memory() == number else 1)
        held.append((os.waitpid(child, 0)[1], books.number_in_memory()))
    assert held == [(0, number), (0, 0)]
