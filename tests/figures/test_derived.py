"""Every declared derived value of a grown book, whatever it is, equals that of a book made of all revisions at once."""

from dataclasses import fields, is_dataclass, replace
from datetime import date
from inspect import signature
from itertools import product
from random import Random

import numpy as np
import pytest
from django.db.models import F

import wise_tally.config.urls  # noqa: F401 - every module that declares a derived value is loaded
from tests.support.random_world import random_world
from tests.support.seeds import seeds
from wise_tally.book.attributes import StoredAttributes
from wise_tally.book.store import books
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import midnight_ending
from wise_tally.core.derived import DECLARED, OWNERS, Grows
from wise_tally.core.growth import take_over, with_added
from wise_tally.core.lines import Filter
from wise_tally.core.measures import BASES, MEASURES
from wise_tally.core.outlook.expected import WAYS
from wise_tally.core.spliced import Spliced
from wise_tally.domain.deals.models import Deal, DealLine, Product

pytestmark = pytest.mark.django_db
GROWTHS, MOST_WAYS = 10, 8
SEEN_CARRIED = set()
SEEDS, SEEDS_DONE = 2, set()


def owner_of(one):
    return list(signature(one.compute).parameters)[one.owner]


OF_BOOKS = [
    one
    for one in DECLARED
    if owner_of(one) in ("snapshot", "book") or one.compute.__qualname__.startswith(("Book.", "BookAsOf."))
]


def samples(book, days):
    """What each further parameter of a derived value may be; a parameter of another name belongs here."""
    period = [book.reference.fiscal.parse(text) for text in ("FY2024", "2024-01-05/2024-03-20")]
    scopes = [Filter(), Filter(process=0), Filter(team=1), Filter(person=0, only=(("source", 0),))]
    return {
        "process": [0],
        "period": period,
        "periods": [tuple(period)],
        "scope": scopes,
        "order": [book.reference.open_stages(0)],
        "measure": MEASURES,
        "figure": ["created", "created_value", "won_of_created", "slips", "overstaying"],
        "basis": BASES,
        "by": ["company", "person", "source"],
        "as_of": days,
        "day": days,
        "on": days,
        "first": [min(days)],
        "last": [max(days)],
        "quota_minor": [None, 1_000_000],
        "most": [3],
        "calls": [False, True],
        "node": [("company", 0), ("person", 0)],
        "horizon": [0, 25],
        "cut": [midnight_ending(day, book.reference.time_zone) for day in days],
        "way": WAYS,
        "index": [1],
        "days": [(max(days).toordinal() + 1,)],
        "checkpoint": ["at its start"],
        "came": [1_000],
    }


def ask_everything(book, days, random):
    """Compute each declared value of the book and of each of its states, in every way or in some drawn anew each time."""
    known, snapshots = samples(book, days), [book.as_of(day) for day in days]
    for one in OF_BOOKS:
        names = list(signature(one.compute).parameters)
        of_snapshot = owner_of(one) == "snapshot" or one.compute.__qualname__.startswith("BookAsOf.")
        for owner in snapshots if of_snapshot else [book]:
            first = (book, owner)[1 - one.owner :]
            ways = list(product(*(known[name] for name in names[one.owner + 1 :])))
            for rest in random.sample(ways, min(len(ways), MOST_WAYS)):
                one.of(*first, *rest)


def same(found, fresh, book, path):
    """Whether two values are equal to the last bit; of a snapshot its states and all that it keeps."""
    if isinstance(fresh, BookAsOf):
        for name, kept in ((one, value) for one, value in found.__dict__.items() if one != "cache"):
            same(kept, getattr(fresh, name), book, (*path, name))
        check_kept(found, fresh, book, path)
    elif isinstance(fresh, (np.ndarray, Spliced)):
        assert found.dtype == fresh.dtype, path
        assert np.array_equal(found, fresh, equal_nan=fresh.dtype.kind == "f"), path
    elif is_dataclass(fresh):
        assert type(found) is type(fresh), path
        for field in fields(fresh):
            same(getattr(found, field.name), getattr(fresh, field.name), book, (*path, field.name))
    elif isinstance(fresh, (tuple, list)):
        assert len(found) == len(fresh), path
        for place, (one, other) in enumerate(zip(found, fresh, strict=True)):
            same(one, other, book, (*path, place))
    elif isinstance(fresh, dict):
        assert list(found) == list(fresh), path
        for key, value in fresh.items():
            same(found[key], value, book, (*path, key))
    else:
        assert found == fresh, path


def check_kept(owner, fresh, book, path=()):
    """Each value that an owner keeps against that which `fresh` computes from nothing; `book` is the fresh one."""
    for one, key, value in owner.cache.items():
        if one not in OF_BOOKS:
            continue
        SEEN_CARRIED.add(one)
        expected = one.compute(*((book, fresh)[1 - one.owner :]), *key)
        same(value, expected, book, (*path, one.compute.__qualname__, key))


def parted(whole, random):
    """The book before some revisions came and went, those that came, and the deals that they are all of: last ones of a few or
    many deals, of the first and last deal too, several of one deal, old and new ones; sometimes all of the newest deals;
    sometimes in place of one of the same moment, or of one that was put back.
    """
    rev, deals = whole.revisions, whole.deals
    last = np.flatnonzero(np.diff(np.r_[rev.deal, -1]) != 0)
    chosen = set(random.sample(last.tolist(), random.choice((1, 2, 5, len(last) // 2))))
    chosen |= {int(last[0]), int(last[-1])} if random.random() < 0.4 else set()
    chosen |= {row - 1 for row in chosen if row and random.random() < 0.5 and rev.deal[row - 1] == rev.deal[row]}
    chosen = {row for row in chosen if rev.deal[row] == rev.deal[row - 1] and row}
    count = len(deals.key)
    if random.random() < 0.3:
        count -= random.choice((1, 4))
        chosen |= set(np.flatnonzero(rev.deal >= count).tolist())
        columns = {field.name: getattr(deals, field.name)[:count] for field in fields(deals)}
        deals = replace(deals, **columns)
    first = {int(np.searchsorted(rev.deal, deal)) for deal in range(count)}
    rows = np.array(sorted(chosen - first), dtype=np.int64)
    kept = rev.take(np.setdiff1d(np.arange(len(rev.deal)), rows))
    attributes = whole.attributes if deals is whole.deals else type(whole.attributes)(whole.attributes.numbers[:count])
    credits = whole.credits
    if deals is not whole.deals:
        held = credits.deal < count
        credits = replace(credits, **{field.name: getattr(credits, field.name)[held] for field in fields(credits)})
    kept, rows, again = with_former(rev, kept, rows, random)
    return Book(whole.reference, deals, kept, credits, 1, attributes), rev.take(rows), again


def with_former(rev, kept, rows, random):
    """`kept` with states that go: another last one of a few deals at the same moment, and one more of a few others."""
    last = np.flatnonzero(np.diff(np.r_[kept.deal, -1]) != 0)
    last = [row for row in last.tolist() if row and kept.deal[row - 1] == kept.deal[row]]
    whole = [row for row in last if kept.deal[row] not in rev.deal[rows]]
    of = random.sample(whole, min(len(whole), random.choice((0, 0, 2, 4))))
    other, more = of[: len(of) // 2], sorted(of[len(of) // 2 :])
    columns = {field.name: getattr(kept, field.name).copy() for field in fields(kept)}
    columns["amount_minor"][other] += 77
    if random.random() < 0.5:
        columns["stage"][other] = columns["stage"][np.array(other, dtype=np.int64) - 1]
    added = {name: column[more] for name, column in columns.items()}
    added["effective_at"] = added["effective_at"] + random.choice((1, 40 * 86_400))
    added["expected_close"] = added["expected_close"] + 9
    if random.random() < 0.5:
        added["stage"] = columns["stage"][np.array(more, dtype=np.int64) - 1]
    places = np.array(more, dtype=np.int64) + 1
    former = type(kept)(*(np.insert(column, places, added[name]) for name, column in columns.items()))
    again, superseded = kept.deal[more], np.isin(rev.deal, kept.deal[other]) & (np.diff(np.r_[rev.deal, -1]) != 0)
    return former, np.union1d(rows, np.flatnonzero(np.isin(rev.deal, again) | superseded)), again


@pytest.mark.parametrize("seed", seeds(SEEDS, 6))
def test_a_grown_book_keeps_nothing_that_a_fresh_one_would_not_say(seed, tmp_path):
    """Books grow in one step and in two; every value kept, of the book and of each day, is compared."""
    random_world(seed).read(tmp_path)
    product = Product.objects.create(key="thing", name="Thing", unit_price_minor=1)
    line = {"product": product, "quantity_10000ths": 10_000, "unit_price_minor": 900, "unit_cost_minor": 100}
    DealLine.objects.bulk_create(DealLine(deal=deal, **line) for deal in Deal.objects.all())
    whole, random = books.current(), Random(seed)
    assert {one for one in DECLARED if owner_of(one) not in OWNERS} == set()
    for _ in range(GROWTHS):
        days = [date(2024, random.randint(4, 12), 3), date(2025, random.randint(1, 12), 3), date(2027, 1, 1)]
        old, added, again = parted(whole, random)
        ask_everything(old, days, random)
        if random.random() < 0.3:
            DealLine.objects.update(unit_price_minor=F("unit_price_minor") + 700)
            whole = whole.with_attributes(StoredAttributes(whole.attributes.numbers))
        in_two = old.deals is whole.deals and not len(again) and random.random() < 0.5
        for part in [added.take(slice(None, 1)), added.take(slice(1, None))] if in_two else [added]:
            merged, growth = with_added(old.revisions, part, again)
            base = (whole.reference, whole.deals, merged, whole.credits, old.revision_number + 1, whole.attributes)
            new, fresh = Book(*base), Book(*base)
            take_over(old, new, growth)
            check_kept(new, fresh, fresh)
            old = new
        same(old.revisions, whole.revisions, whole, ("revisions",))
    SEEDS_DONE.add(seed)
    # What one world alone does not carry over, another does: told once all were seen by one process.
    if len(SEEDS_DONE) >= SEEDS:
        lasting = {one for one in OF_BOOKS if one.grows is not Grows.DROPPED}
        assert {one.compute.__qualname__ for one in lasting - SEEN_CARRIED} == set()
