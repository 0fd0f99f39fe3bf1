"""The file of the book's columns never gives what the database does not: random histories, kills, forks and damage."""

import sqlite3
from dataclasses import fields
from datetime import UTC, date, datetime, timedelta
from random import Random

import numpy as np
import pytest
from django.db import connection

from tests.support.processes import in_a_file
from tests.support.random_world import random_world
from tests.support.seeds import seeds
from wise_tally.book import column_file
from wise_tally.book import store as module
from wise_tally.book.store import Books, books
from wise_tally.core.book import Credits, Deals, Revisions
from wise_tally.domain.deals.actions import DealState, change_deal, last_revision, set_credits
from wise_tally.domain.deals.creation import NewDeal, add_deal
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.deals.revert import revert, revision_before
from wise_tally.domain.file_lock import alone
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.book_number import old_rows_changed
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.actions import StageEdit, set_stages
from wise_tally.domain.process.models import Stage
from wise_tally.domain.targets.actions import QuotaCell, set_quotas

ADMIN = Viewer("m", "M", "admin", ())
STEPS, SEEDS = 30, 2
OUTCOMES = {"used": 0, "refused": 0}


class History:
    """Changes of a workspace, a minute apart, drawn at random."""

    def __init__(self, seed):
        self.random, self.now = Random(seed), datetime(2026, 11, 23, 9, tzinfo=UTC)

    def move(self):
        deal = self.random.choice(list(Deal.objects.all()))
        stage = self.random.choice(list(Stage.objects.filter(kind="open", retired=False)))
        state = DealState(stage, self.random.randrange(10_000), date(2026, 12, 1), None)
        change_deal(ADMIN, books.current().reference, deal, last_revision(deal).pk, state, "", self.now)
        return deal

    def undo(self):
        deal = self.move()
        if revision_before(last_revision(deal)).stage.retired:
            return
        revert(ADMIN, books.current().reference, deal, last_revision(deal).pk, self.now)

    def add(self):
        stage, owner = Stage.objects.filter(kind="open", retired=False)[0], Person.objects.get(key="a")
        new = NewDeal("new", stage, 500, None, owner, deal_type="new", source=self.random.choice(("", "web")))
        add_deal(ADMIN, books.current().reference, new, self.now)

    def divide(self):
        a, b = (Person.objects.get(key=key) for key in "ab")
        deal = self.random.choice(list(Deal.objects.all()))
        part = self.random.randrange(1, 9_999)
        shares, reference = {a: part, b: 10_000 - part}, books.current().reference
        set_credits(ADMIN, reference, deal, shares, self.now.date(), self.now)

    def reference(self):
        if self.random.random() < 0.5:
            stage = Stage.objects.get(key="s2")
            edit = StageEdit(stage, stage.name, self.random.randrange(9_000), stage.category, None)
            return set_stages(ADMIN, [edit], self.now.date(), self.now)
        month = self.random.randrange(1, 12)
        cell = QuotaCell("person", "b", date(2030, month, 1), date(2030, month + 1, 1) - timedelta(days=1), 5, None)
        return set_quotas(ADMIN, books.current().reference, [cell], self.now)

    def rewrite(self):
        """An old row changes in place, as an import's undo does it."""
        Deal.objects.filter(pk=self.random.choice(Deal.objects.values_list("pk", flat=True))).update(source="fair")
        old_rows_changed()

    def change(self):
        self.now += timedelta(minutes=1)
        self.random.choice((self.move, self.move, self.undo, self.add, self.divide, self.reference, self.rewrite))()


def equal(found, wanted):
    assert (found.number, found.reference, found.epoch, found.last_revision) == (
        wanted.number,
        wanted.reference,
        wanted.epoch,
        wanted.last_revision,
    )
    assert np.array_equal(found.deal_numbers, wanted.deal_numbers)
    for part, of in (("deals", Deals), ("revisions", Revisions), ("credits", Credits)):
        for field in fields(of):
            one, other = (getattr(getattr(stored.book, part), field.name) for stored in (found, wanted))
            assert np.array_equal(one, other), (part, field.name)
    assert found.book.reference == wanted.book.reference
    assert np.array_equal(found.book.effective_to, wanted.book.effective_to)
    every = np.arange(len(wanted.book.effective_to))
    assert np.array_equal(found.book.entered_row(every), wanted.book.entered_row(every))


def written(stored, target):
    known = column_file.identity(stored.last_revision)
    column_file.write(stored, known, target)


def killed(stored, target, random):
    """A process that dies while it writes leaves a part of a file beside the one that was there."""
    whole = target.read_bytes() if target.exists() else None
    target.unlink(missing_ok=True)
    written(stored, target)
    made = target.read_bytes()
    target.with_name(f"{target.name}.1.part").write_bytes(made[: random.randrange(len(made))])
    target.unlink()
    if whole is not None:
        target.write_bytes(whole)


def damaged(target, random):
    if target.exists():
        content = bytearray(target.read_bytes())
        if random.random() < 0.5 and content:
            content[random.randrange(len(content))] ^= 1 << random.randrange(8)
        target.write_bytes(content[: random.choice((len(content), random.randrange(len(content) + 1)))])


@in_a_file
@pytest.mark.parametrize("seed", seeds(SEEDS, 6))
@pytest.mark.django_db(transaction=True)
def test_a_start_with_the_file_gives_the_book_of_the_database(seed, tmp_path, settings, monkeypatch):
    """After each step another worker starts; forks are copies put back by hand, whose numbers grow past those of the file."""
    random_world(seed, deals=25).read(tmp_path / "in")
    target, history, copy = tmp_path / "wise_tally.sqlite3.book", History(seed), sqlite3.connect(":memory:")
    monkeypatch.setattr(column_file, "path", lambda: target)
    connection.connection.backup(copy)
    for _ in range(STEPS):
        what = history.random.choice(("change",) * 6 + ("write",) * 3 + ("kill", "damage", "copy", "put back"))
        if what == "change":
            history.change()
        elif what in ("write", "kill"):
            stored = books.stored()
            written(stored, target) if what == "write" else killed(stored, target, history.random)
        elif what == "damage":
            damaged(target, history.random)
        elif what == "copy":
            connection.connection.backup(copy)
        else:
            copy.backup(connection.connection)
            books.forget()
            for _ in range(history.random.randrange(12)):
                history.change()
        settings.BOOK_FILE = False
        plain = Books().stored()
        settings.BOOK_FILE = True
        started, counters = Books(), (plain.number, plain.reference, plain.epoch, plain.attributes)
        with module.one_snapshot():
            OUTCOMES["used" if column_file.load(counters) else "refused"] += 1
        equal(started.stored(), plain)
    settings.BOOK_FILE = False
    copy.close()
    assert seed != SEEDS - 1 or min(OUTCOMES.values()) > 5, OUTCOMES


@pytest.mark.django_db(transaction=True)
def test_the_file_is_written_when_a_book_is_far_from_it(tmp_path, settings, monkeypatch):
    random_world(1, deals=5).read(tmp_path / "in")
    target, history, one = tmp_path / "wise_tally.sqlite3.book", History(1), Books()
    settings.BOOK_FILE = True
    monkeypatch.setattr(column_file, "path", lambda: target)
    one.stored()
    assert not target.exists(), "a small firm's book is read as quickly"
    monkeypatch.setattr(module, "LARGE", 1)
    one.forget()

    def number_of_file():
        # The book that actions ask writes to the same file, and whoever is second leaves it.
        books.finish_writing()
        one.stored()
        one._writing.join()
        return column_file._opened(target)[0]["counters"][0]

    first = number_of_file()
    history.move()
    assert number_of_file() == first, "one change is not worth it"
    monkeypatch.setattr(module, "BEHIND", 0)
    history.move()
    assert number_of_file() == first + 2
    target.with_name(f"{target.name}.9.part").write_text("left by a killed process")
    history.move()
    assert number_of_file() == first + 3
    assert not list(tmp_path.glob("*.part"))
    with alone(column_file._lock_of(target)):
        history.move()
        assert number_of_file() == first + 3, "another process is at it"
    settings.BOOK_FILE = False
