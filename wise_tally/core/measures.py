"""What deals count for: their amount or margin, one each, the money of their first year, or what they sell; and by which day."""

from dataclasses import replace

import numpy as np

from wise_tally.core.book import Book, BookAsOf, with_rows_moved
from wise_tally.core.deal_attributes import DealValue
from wise_tally.core.derived import derived
from wise_tally.core.errors import UnknownBreakdown

AMOUNT, MARGIN, DEALS, FIRST_YEAR, QUANTITY = MEASURES = ("amount", "margin", "deals", "first_year", "quantity")
CLOSE, PAYMENT = BASES = ("close", "payment")
# Of targets, what each measure is compared with.
METRICS = {AMOUNT: "won_amount", MARGIN: "margin", DEALS: "won_deals", QUANTITY: "quantity"}
# A number is kept in hundredths, as a target of it is, so that it can be weighted.
IN_HUNDREDTHS = (DEALS, QUANTITY)
ONE_DEAL = 100


def valued(book: Book, snapshot: BookAsOf, measure: str = AMOUNT, basis: str = CLOSE) -> BookAsOf:
    """The snapshot with deals counting for `measure`, in the period of their `basis`; the plain one for the first of both.

    A deal without the measure counts 0 and is not `known`. Numbers and quantities are in hundredths. By "payment" won and
    open deals fall in the period of their first payment, those without one in none. Kept with the snapshot.
    Raises UnknownBreakdown for a measure or basis that is none of MEASURES or BASES.
    """
    if measure not in MEASURES or basis not in BASES:
        raise UnknownBreakdown(
            f"Choose a measure, one of: {', '.join(MEASURES)}, and a day, one of: {', '.join(BASES)}."
        )
    if (measure, basis) == (AMOUNT, CLOSE):
        return snapshot
    return _valued(book, snapshot, measure, basis)


@derived(with_rows_moved)
def _valued(book: Book, snapshot: BookAsOf, measure: str, basis: str) -> BookAsOf:
    due_on = None if basis == CLOSE else book.attributes.first_due()[snapshot.deal]
    if measure == AMOUNT:
        return replace(snapshot, due_on=due_on)
    if measure == DEALS:
        one = np.full(len(snapshot.deal), ONE_DEAL, dtype=np.int64)
        return replace(snapshot, amount_minor=one, measure=measure, due_on=due_on)
    read = {MARGIN: book.attributes.margin, FIRST_YEAR: book.attributes.first_year, QUANTITY: book.attributes.quantity}
    deal_value: DealValue = read[measure]()
    value, known = deal_value.value_minor[snapshot.deal], deal_value.known[snapshot.deal]
    return replace(snapshot, amount_minor=value, measure=measure, due_on=due_on, known=known)
