"""What pages filter and sort deals by and the book does not hold: read for whole columns, in the places of the book."""

from collections.abc import Iterable, Sequence

import numpy as np
from django.db.models import Max, Q, QuerySet

from wise_tally.book.attributes import StoredAttributes, whole_numbers
from wise_tally.book.attributes import attributes_of as of_book
from wise_tally.book.store import books
from wise_tally.core.book import BookAsOf, Flags
from wise_tally.core.customer import CONTACT_INTERVAL_DAYS, contact_gaps, days_since_contact
from wise_tally.core.derived import Grows, derived
from wise_tally.core.money import Ints, line_amount, line_margin, margin_of_lines
from wise_tally.core.reference_data import OPEN
from wise_tally.core.trees import NONE
from wise_tally.domain.database import among
from wise_tally.domain.deals.contact_intervals import INDUSTRY, PROCESS, saved_intervals
from wise_tally.domain.deals.models import Deal, DealLine, DealRevision, OwnFieldValue
from wise_tally.domain.deals.selectors import contacts_by_account, done_contacts
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.remembered import read_once

NOTHING = np.iinfo(np.int64).min


def attributes_of(line: FilterLine) -> StoredAttributes:
    """What stands beside the book of a page."""
    return of_book(line.book)


def _numbers(deals: "QuerySet[Deal, int]") -> Ints:
    """Row numbers of a query in its order."""
    return whole_numbers(deals, 1)[:, 0]


def deals_where(line: FilterLine, wanted: Q) -> Flags:
    """Which deals of the book a condition finds, shape (deals,)."""
    mask, deals = np.zeros(len(line.book.deals.key), dtype=bool), Deal.objects.filter(wanted)
    index = attributes_of(line).places(_numbers(deals.order_by().values_list("pk", flat=True)))
    mask[index[(index >= 0) & (index < len(mask))]] = True
    return mask


def with_related(related: str, **named: str) -> Q:
    """Deals that refer to something (`account`, `contact`, `partner`) of such a name.

    The few named so first, then their deals: the other way round every deal would be joined.
    """
    model = Deal._meta.get_field(related).related_model
    assert model is not None
    assert not isinstance(model, str)
    return Q(**{f"{related}__in": model._default_manager.filter(**named)})


def rank_by(line: FilterLine, field: str) -> Ints:
    """The rank of each deal of the book by a column, or by the name of what it refers to (`account__name`), shape (deals,)."""
    related, _, name = field.partition("__")
    if name:
        return _rank_of_related(line, related)
    rank = np.zeros(len(line.book.deals.key), dtype=np.int64)
    index = attributes_of(line).places(_numbers(Deal.objects.order_by(field, "pk").values_list("pk", flat=True)))
    index = index[(index >= 0) & (index < len(rank))]
    rank[index] = np.arange(1, len(index) + 1)
    return rank


def _rank_of_related(line: FilterLine, related: str) -> Ints:
    refers = attributes_of(line).references(related)
    model = Deal._meta.get_field(related).related_model
    assert model is not None
    assert not isinstance(model, str)
    order = np.array(list(model._default_manager.order_by("name", "pk").values_list("pk", flat=True)), dtype=np.int64)
    rank_of = np.zeros(int(max(order.max(initial=0), refers.max(initial=0))) + 1, dtype=np.int64)
    rank_of[order] = np.arange(1, len(order) + 1)
    return np.where(refers > 0, rank_of[refers], 0)


def own_values(line: FilterLine, field: str) -> dict[int, str]:
    """Values of an own field by index into the book."""
    index_of = line.book.index_by_key
    rows = OwnFieldValue.objects.filter(field__key=field, field__applies_to="deal")
    return {index_of[key]: text for key, text in rows.values_list("subject_key", "value") if key in index_of}


def margins(line: FilterLine, rows: Ints) -> Ints:
    """Margin of the deals at these places in minor units; NOTHING without lines or where a line has no cost."""
    margin, deal = line.book.attributes.margin(), line.snapshot.deal[rows]
    return np.where(margin.known[deal], margin.value_minor[deal], NOTHING)


def margins_of(deals: Sequence[int] | None) -> dict[int, int | None]:
    """Margins of deals by row number, of all with None; None where a line has no cost, absent without lines."""
    columns = ("deal_id", "quantity_10000ths", "unit_price_minor", "unit_cost_minor", "discount_bp")
    lines = DealLine.objects.values_list(*columns)
    some = lines if deals is None else lines.filter(deal__in=among(deals))
    by_deal: dict[int, list[int | None]] = {}
    for deal, quantity, price, cost, discount in some:
        amount = line_amount(quantity, price, discount or 0)
        by_deal.setdefault(deal, []).append(line_margin(quantity, amount, cost))
    return {deal: margin_of_lines(margins) for deal, margins in by_deal.items()}


def contact_days(line: FilterLine, rows: Ints) -> np.ndarray:
    """Days since the last done contact with the customer, or since the creation where there was none; shape of `rows`.

    A deal without a customer counts the contacts about itself. What was done by the end of the as-of day counts.
    """
    book, deal = line.book, line.snapshot.deal[rows]
    return days_since_contact(_contacted(line, deal), book.deals.created_at[deal], line.snapshot.cut)


def _contacted(line: FilterLine, deal: Ints) -> Ints:
    """When the customers of deals (indices) were contacted last, a deal itself where it has none; 0 for never."""
    contacts = done_contacts().filter(at__lt=line.ends_at)
    account = attributes_of(line).references("account")[deal]
    by_account = contacts_by_account(line.ends_at).filter(pk__in=among(np.unique(account).tolist()))
    by_deal = contacts.filter(account=None).exclude(deal=None).order_by()
    accounts = whole_numbers(by_account, 2)
    last = np.zeros(int(max(accounts[:, 0].max(initial=0), account.max(initial=0))) + 1, dtype=np.int64)
    last[accounts[:, 0]] = accounts[:, 1]
    met = last[account]
    alone = whole_numbers(by_deal.values_list("deal_id").annotate(last=Max("at")), 2)
    own = np.zeros(len(line.book.deals.key), dtype=np.int64)
    index = attributes_of(line).places(alone[:, 0])
    there = (index >= 0) & (index < len(own))
    own[index[there]] = alone[there, 1]
    return np.where(account == 0, own[deal], met)


def contact_intervals(line: FilterLine, rows: Ints) -> Ints:
    """Days that may pass between contacts, shape of `rows`: by the account's class, else the process, else the usual."""
    saved, book = saved_intervals(), line.book
    by_process = np.array([saved.get((PROCESS, key), CONTACT_INTERVAL_DAYS) for key, _ in book.reference.processes])
    deal = line.snapshot.deal[rows]
    days = by_process[book.deals.process[deal]] if len(by_process) else np.zeros(len(rows), dtype=np.int64)
    if any(subject == INDUSTRY for subject, _ in saved):
        facet = book.attributes.facet("industry", line.as_of)
        own = np.array([*(saved.get((INDUSTRY, key), 0) for key in facet.keys), 0], dtype=np.int64)[facet.of_deal[deal]]
        days = np.where(own > 0, own, days)
    return days


def gaps(line: FilterLine, rows: Ints, spent: np.ndarray | None = None) -> Ints:
    """Contact intervals missed, shape of `rows`; `spent` are the days since the last contact where they are at hand."""
    return contact_gaps(contact_days(line, rows) if spent is None else spent, contact_intervals(line, rows))


def open_contacts(line: FilterLine) -> tuple[Ints, np.ndarray, Ints]:
    """Of all open deals: rows of the snapshot, days since the last contact, intervals missed."""
    return _open_contacts(line.firm)


@derived()
def _open_contacts(line: FilterLine) -> tuple[Ints, np.ndarray, Ints]:
    rows, book = np.flatnonzero(line.snapshot.kind == OPEN), line.book
    deal, every = line.snapshot.deal[rows], np.arange(len(book.deals.key))
    met = read_once(book, ("contacted", line.as_of), lambda: _contacted(line, every))
    spent = days_since_contact(met[deal], book.deals.created_at[deal], line.snapshot.cut)
    return rows, spent, gaps(line, rows, spent)


def lost_reason_places(line: FilterLine) -> tuple[tuple[str, ...], Ints]:
    """Reasons, and the place of each deal's among them, shape of the snapshot; -1 for deals not lost or without one."""
    return _reasons(line.snapshot)


@derived(Grows.CARRIED)
def _reasons(snapshot: BookAsOf) -> tuple[tuple[str, ...], Ints]:
    reasons = books.lost_reasons()
    return reasons.names, reasons.on(snapshot)


@derived(Grows.CARRIED)
def lost_reasons(snapshot: BookAsOf) -> dict[int, str]:
    """Why deals that are in a lost stage were lost, by index into the book."""
    names, index = _reasons(snapshot)
    rows = np.flatnonzero(index != NONE)
    pairs = zip(snapshot.deal[rows].tolist(), index[rows].tolist(), strict=True)
    return {deal: names[reason] for deal, reason in pairs}


def lost_reasons_of(line: FilterLine, deals: Iterable[Deal]) -> dict[int, str]:
    """The same for a few deals, by row number; what was opened again has none."""
    rows = DealRevision.objects.filter(deal__in=among(deal.pk for deal in deals), void=False)
    return dict(rows.filter(effective_at__lt=line.ends_at).order_by("pk").values_list("deal_id", "lost_reason"))
