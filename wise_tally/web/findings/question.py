"""What the core needs to find what matters: the filter line's scope, and what the book does not hold."""

from datetime import date, datetime, timedelta
from functools import partial

import numpy as np
from django.db.models import F, Min, Q, QuerySet, Sum

from wise_tally.book.attributes import statement_of, stored_rows, whole_numbers
from wise_tally.core.book import Book, Flags
from wise_tally.core.findings.bounds import Bounds
from wise_tally.core.findings.question import YEAR_DAYS, Customers, Question, Surroundings, Waiting
from wise_tally.core.lines import owner_filtered, people_inside
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.core.trees import NONE
from wise_tally.domain.briefs.selectors import bounds_in_force
from wise_tally.domain.database import among
from wise_tally.domain.deals.models import Account, Invoice, Lead, LeadMove
from wise_tally.domain.deals.selectors import done_contacts, without_next_step
from wise_tally.domain.org.access import people_left
from wise_tally.web import deal_columns
from wise_tally.web.activities_done import done_in
from wise_tally.web.expectation import leading_way, trust_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.lead_rows import lead_rows
from wise_tally.web.nodes import scope_node
from wise_tally.web.remembered import read_once
from wise_tally.web.visibility import Visibility

USUAL_DAYS = 7
LATELY = 91
# Leads older than this are no longer new, whatever nobody did about them.
LEADS_BACK = timedelta(days=365)


def question_of(
    line: FilterLine, may_see: Visibility, since: date | None = None, bounds: Bounds | None = None
) -> Question:
    """The question of a filter line, compared with the day `since` (a week before where none is given)."""
    by, node, _ = scope_node(line)
    earlier = line.book.as_of(since or line.as_of - timedelta(days=USUAL_DAYS))
    way = leading_way(trust_of(line))
    selection = (line.book, line.snapshot, earlier, line.period, line.scope, by, node, way)
    return Question(*selection, surroundings_of(line, may_see), bounds or bounds_in_force())


def surroundings_of(line: FilterLine, may_see: Visibility) -> Surroundings:
    """What the book does not hold of the scope's deals, customers and leads, as of the filter line's day."""
    rows, spent, gaps = deal_columns.open_contacts(line)
    deal, size = line.snapshot.deal[rows], len(line.book.deals.key)
    silent, missed = np.zeros(size), np.zeros(size, dtype=np.int64)
    silent[deal], missed[deal] = spent, gaps
    customer = deal_columns.attributes_of(line).references("account")
    month = line.book.reference.fiscal.containing(line.as_of, "month")
    gone = people_left(line.as_of)
    people = line.book.reference.person_index
    left = sorted(people[key] for key in gone if key in people)
    competitor = line.book.attributes.facet("competitor", line.as_of)
    return Surroundings(
        silent_days=silent,
        missed=missed,
        lacks_step=partial(_lacks_step, line.book),
        customer=customer,
        customers=_customers(line, customer),
        leads=lead_rows(line, may_see.leads())[1],
        waiting=_waiting(line, may_see),
        done=done_in(line, month),
        reasons=deal_columns.lost_reason_places(line),
        competitors=(competitor.names, competitor.of_deal[line.snapshot.deal]),
        left=np.array(left, dtype=np.int64),
    )


def _lacks_step(book: Book, deals: Ints) -> Flags:
    """Which of some deals have no next step."""
    keys = [book.deals.key[deal] for deal in deals.tolist()]
    lacking = without_next_step(keys)
    return np.array([key in lacking for key in keys], dtype=bool)


def _customers(line: FilterLine, customer: Ints) -> Customers:
    """Customers of the scope's deals with invoices: unpaid ones past due, sales of twelve months and of the twelve before."""
    mine = np.unique(customer[line.snapshot.deal[owner_filtered(line.book, line.snapshot, line.scope)]])
    owed, sales = _ledger(line)
    number = np.intersect1d(mine[mine > 0], np.union1d(owed[:, 0], sales[:, 0]))
    rows_of = {column: np.searchsorted(table[:, 0], number) for column, table in (("owed", owed), ("sales", sales))}

    def taken(table: Ints, name: str, column: int) -> Ints:
        if not len(table):
            return np.zeros(len(number), dtype=np.int64)
        index = np.minimum(rows_of[name], len(table) - 1)
        return np.where(table[index, 0] == number, table[index, column], 0)

    keys = dict(Account.objects.filter(pk__in=among(number.tolist())).values_list("pk", "key"))
    return Customers(
        number,
        tuple(keys[one] for one in number.tolist()),
        taken(owed, "owed", 1),
        taken(owed, "owed", 2),
        *(taken(sales, "sales", column) for column in range(1, 6)),
    )


def _ledger(line: FilterLine) -> tuple[Ints, Ints]:
    """Tables by customer, rising: unpaid and past due, with the first day due; sales and numbers of invoices of two years."""
    attributes = deal_columns.attributes_of(line)
    return attributes.cached(("ledger", line.as_of), lambda: (_owed(line.as_of), _sales(line.as_of)))


def _owed(day: date) -> Ints:
    unpaid = Invoice.objects.filter(Q(paid_on=None) | Q(paid_on__gt=day), issued_on__lte=day, due_on__lt=day)
    by_account = (
        unpaid.order_by("account_id").values("account_id").annotate(owed=Sum("amount_minor"), first=Min("due_on"))
    )
    rows = [(row["account_id"], row["owed"], row["first"].toordinal()) for row in by_account]
    return np.array(rows, dtype=np.int64).reshape(len(rows), 3)


def _sales(day: date) -> Ints:
    this, before = day - timedelta(days=YEAR_DAYS), day - timedelta(days=2 * YEAR_DAYS + 1)
    invoices = Invoice.objects.filter(issued_on__lte=day, issued_on__gte=before).order_by()
    table = whole_numbers(invoices.values_list("account_id", "issued_on", "amount_minor"), 3)
    number, index = np.unique(table[:, 0], return_inverse=True)
    issued, size = table[:, 1], len(number)
    spans = issued >= this.toordinal(), issued < this.toordinal(), issued > day.toordinal() - LATELY
    sums = [sum_by_group(table[keep, 2], index[keep], size) for keep in spans]
    counts = [np.bincount(index[keep], minlength=size) for keep in spans[:2]]
    return np.stack([number, *sums[:2], *counts, sums[2]], axis=1)


def _touched(ends: datetime) -> Ints:
    """Row numbers of the leads whom somebody contacted, or moved a step, by a moment."""
    contacts = done_contacts().filter(at__lt=ends).exclude(lead=None).order_by()
    # The step that a lead came in with is nobody's doing.
    moves = LeadMove.objects.filter(at__gt=F("lead__created_at"), at__lt=ends).order_by()
    return np.concatenate([whole_numbers(records.values_list("lead_id"), 1)[:, 0] for records in (contacts, moves)])


def _untouched(line: FilterLine, leads: QuerySet[Lead]) -> tuple[Ints, Ints, Ints]:
    """Places among all leads, owners and creation of new ones that nobody contacted, moved or closed by the end of the day."""
    ends = line.ends_at
    waiting = leads.filter(Q(closed_at=None) | Q(closed_at__gte=ends), created_at__lt=ends)
    waiting = waiting.filter(created_at__gte=ends - LEADS_BACK).order_by("pk")
    columns = ("pk", "owner__key", "created_at")
    reference, rows = line.book.reference, stored_rows(waiting.values_list(*columns))
    number, owner, created = (np.zeros(len(rows), dtype=np.int64) for _ in columns)
    for index, (lead, key, moment) in enumerate(rows):
        number[index], owner[index], created[index] = lead, reference.person_index.get(key, NONE), moment
    keep = ~np.isin(number, _touched(ends))
    lead_index = np.searchsorted(whole_numbers(leads.order_by("pk").values_list("pk"), 1)[:, 0], number)
    return lead_index[keep], owner[keep], created[keep]


def _waiting(line: FilterLine, may_see: Visibility) -> tuple[Waiting, ...]:
    """New leads of the scope's people that nobody did anything about."""
    reference, leads = line.book.reference, may_see.leads()
    cache_key = ("untouched", line.as_of, statement_of(leads))
    index, owner, created = read_once(line.book, cache_key, lambda: _untouched(line, leads))
    keep = np.ones(len(index), dtype=bool)
    if line.scope.of_people:
        team = reference.teams_of(np.maximum(owner, 0), np.full(len(owner), line.as_of.toordinal()))
        keep &= people_inside(reference, line.scope, line.as_of, owner, np.where(owner == NONE, NONE, team))
        keep &= owner != NONE
    days = (line.snapshot.cut - created) / DAY_SECONDS
    return tuple(map(Waiting, index[keep].tolist(), owner[keep].tolist(), days[keep].tolist()))
