"""What the list filters and sorts by and the book does not hold: read for whole columns at once, in the book's places."""

from datetime import datetime

import numpy as np
from django.db import connection
from django.db.models import Max, QuerySet

from wise_tally.core.book import Flags
from wise_tally.core.customer import contact_gap
from wise_tally.core.money import Ints, line_amount, line_margin, margin_of_lines
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.deals.models import Deal, DealLine, OwnFieldValue
from wise_tally.deals.selectors import done_contacts
from wise_tally.org.clock import now
from wise_tally.scope.line import ScopeLine
from wise_tally.shelf.book import shelf

NOTHING = np.iinfo(np.int64).min


def _numbers(found: "QuerySet[Deal, int]") -> Ints:
    """Row numbers of a query in its order, read straight from the cursor."""
    statement, values = found.query.sql_with_params()
    with connection.cursor() as cursor:
        cursor.execute(statement, values)
        return np.fromiter((row[0] for row in cursor), dtype=np.int64)


def _indices(numbers: Ints) -> Ints:
    """Indices into the book of row numbers; -1 for deals that it does not hold yet."""
    held = shelf.shelved().deal_numbers
    if len(held) == 0:
        return np.full(len(numbers), -1)
    place = np.minimum(np.searchsorted(held, numbers), len(held) - 1)
    return np.where(held[place] == numbers, place, -1)


def deals_where(line: ScopeLine, found: "QuerySet[Deal, Deal]") -> Flags:
    """Which deals of the book a query finds, shape (deals,)."""
    mask = np.zeros(len(line.book.deals.key), dtype=bool)
    index = _indices(_numbers(found.order_by().values_list("pk", flat=True)))
    mask[index[(index >= 0) & (index < len(mask))]] = True
    return mask


def rank_by(line: ScopeLine, *fields: str) -> Ints:
    """The rank of each deal of the book in the order of some columns, shape (deals,)."""
    rank = np.zeros(len(line.book.deals.key), dtype=np.int64)
    index = _indices(_numbers(Deal.objects.order_by(*fields, "pk").values_list("pk", flat=True)))
    index = index[(index >= 0) & (index < len(rank))]
    rank[index] = np.arange(1, len(index) + 1)
    return rank


def places_by_key(line: ScopeLine) -> dict[str, int]:
    """Index into the book by identifier, made once for a book."""
    if "places_by_key" not in line.book.memo:
        line.book.memo["places_by_key"] = {key: place for place, key in enumerate(line.book.deals.key)}
    return line.book.memo["places_by_key"]  # type: ignore[no-any-return]


def own_values(line: ScopeLine, field: str) -> dict[int, str]:
    """Values of an own field by index into the book."""
    places = places_by_key(line)
    rows = OwnFieldValue.objects.filter(field__key=field, field__applies_to="deal")
    return {places[key]: text for key, text in rows.values_list("subject_key", "value") if key in places}


def margins(line: ScopeLine, at: Ints) -> Ints:
    """Margin of the deals at these places in minor units; NOTHING without lines or where a line has no cost."""
    columns = ("deal_id", "quantity_10000ths", "unit_price_minor", "unit_cost_minor", "discount_bp")
    by_deal: dict[int, list[int | None]] = {}
    for deal, quantity, price, cost, discount in DealLine.objects.values_list(*columns):
        amount = line_amount(quantity, price, discount or 0)
        by_deal.setdefault(deal, []).append(line_margin(quantity, amount, cost))
    held = shelf.shelved().deal_numbers
    found = [margin_of_lines(by_deal.get(int(held[d]), [])) for d in line.standing.deal[at].tolist()]
    return np.array([NOTHING if margin is None else margin for margin in found], dtype=np.int64)


def contact_days(line: ScopeLine, at: Ints) -> np.ndarray:
    """Days since the last done contact with the customer, or since the creation where there was none; shape of `at`."""
    moment = now()
    last = dict(done_contacts().exclude(account=None).values_list("account_id").annotate(last=Max("at")))
    alone = dict(done_contacts().filter(account=None).values_list("deal_id").annotate(last=Max("at")))
    account_of = dict(Deal.objects.exclude(account=None).values_list("pk", "account_id"))
    held, created = shelf.shelved().deal_numbers, line.book.deals.created_at

    def days(deal: int) -> float:
        number = int(held[deal])
        account = account_of.get(number)
        met: datetime | None = last.get(account) if account is not None else alone.get(number)
        since = met.timestamp() if met else float(created[deal])
        return (moment.timestamp() - since) / DAY_SECONDS

    return np.array([days(int(deal)) for deal in line.standing.deal[at]], dtype=np.float64)


def gaps(line: ScopeLine, at: Ints) -> Ints:
    """Contact intervals missed, shape of `at`."""
    return np.array([contact_gap(float(days)) for days in contact_days(line, at)], dtype=np.int64)
