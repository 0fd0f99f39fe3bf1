"""Histories of the outlook's worked examples, and firms made up from a seed for it."""

from dataclasses import fields, replace
from datetime import date, timedelta

import numpy as np

from tests.support.small_books import FIRST, IS_LOST, IS_WON, SECOND, book_of, day, reference
from wise_tally.core.book import Book

MARCH = day("2026-03-01")


def after(days):
    return MARCH + timedelta(days=days)


# Stays of the worked examples: in Offer won after 2, lost after 3, won after 5, two running for 4 days; in Enquiry on to Offer after 1
# (so that this Offer runs for 4), lost after 2. Times are those of the day that ends on 11 March.
HISTORIES = [
    [(after(0), SECOND, 100, None), (after(2), IS_WON, 100, None)],
    [(after(0), SECOND, 100, None), (after(3), IS_LOST, 100, None)],
    [(after(0), SECOND, 100, None), (after(5), IS_WON, 100, None)],
    [(after(7), SECOND, 100, None)],
    [(after(6), FIRST, 100, None), (after(7), SECOND, 100, None)],
    [(after(6), FIRST, 100, None), (after(8), IS_LOST, 100, None)],
]

TODAY = after(10)

REFERENCE = reference(probability_bp=(2_000, 5_000), typical_days=(10, 10))


def won_after(days, ended):
    """A deal that was won so many days after its creation, on a day."""
    return [(ended - timedelta(days=days), FIRST, 100, None), (ended, IS_WON, 100, None)]


def worked(seed):
    """A firm made up from a seed: some hundred deals over three years, that move on, back, are won and lost."""
    random = np.random.default_rng(seed)
    histories = []
    for _ in range(400):
        at, stage = date(2024, 1, 1) + timedelta(days=int(random.integers(0, 900))), FIRST
        amount = int(random.lognormal(9, 1))
        states = [(at, stage, amount, at + timedelta(days=40))]
        while stage in (FIRST, SECOND):
            at += timedelta(days=int(random.integers(1, 35)))
            stage = int(
                random.choice([SECOND, IS_LOST] if stage == FIRST else [FIRST, IS_WON, IS_WON, IS_LOST, SECOND])
            )
            amount = int(amount * random.uniform(0.8, 1.2)) or 1
            states.append((at, stage, amount, at + timedelta(days=30)))
        histories.append([*states, int(random.integers(0, 3))])
    return book_of(histories, reference(("ann", "bob", "cy"), probability_bp=(3_000, 6_000)))


def cut_at(book, moment):
    """The book of what had happened before a moment."""
    kept = np.flatnonzero(book.revisions.effective_at < moment)
    rev = book.revisions.take(kept)
    known, place = np.unique(rev.deal, return_inverse=True)
    columns = {one.name: getattr(book.deals, one.name) for one in fields(book.deals)}
    deals = replace(
        book.deals,
        **{
            name: tuple(column[i] for i in known) if name == "key" else column[known]
            for name, column in columns.items()
        },
    )
    return Book(
        book.reference, deals, replace(rev, deal=place.astype(np.int64)), book.credits, attributes=book.attributes
    )
