"""Workings of the list's totals and of what is worked out for one deal."""

from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np
from django.http import HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.book.store import books
from wise_tally.core.cash import Plan, whole_minor
from wise_tally.core.customer import contact_gap
from wise_tally.core.deal_list import days_in_stage, days_over, list_totals, slips_of, stays_of
from wise_tally.core.figures_of_deals import OF_DEAL, OF_LIST
from wise_tally.core.money import Ints, line_amount, line_margin, margin_of_lines
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.deals.contact_intervals import interval_of
from wise_tally.domain.deals.models import Deal
from wise_tally.domain.deals.selectors import contact_days, last_contacts
from wise_tally.domain.formats import age, count, day, days, moment, money, plural, points, quantity
from wise_tally.pages.deals.deal_page import open_deal
from wise_tally.pages.deals.listing import Listing, listing
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, named_deals, panel_response


@require_safe
def of_list(request: PageRequest, figure: str) -> HttpResponse:
    """How a total of the list came about: its deals by stage."""
    line = read_scope(request)
    one_of(figure, OF_LIST, "is not a total of the list", 404)
    deal_list = listing(line, request)
    back = f"{reverse('deals:page')}?{deal_list.query.query()}"
    return panel_response(request, line, _panel_of_list(line, deal_list, figure), back, back)


def _panel_of_list(line: FilterLine, deal_list: Listing, figure: str) -> Panel:
    snapshot, rows = line.snapshot, deal_list.all_places
    column = snapshot.weighted_minor if figure == "weighted" else snapshot.amount_minor
    order = rows[np.argsort(-column[rows], kind="stable")]
    total = {
        "deals": count(deal_list.total),
        "amount": money(deal_list.amount_minor),
        "weighted": money(deal_list.weighted_minor),
    }
    return Panel(
        title=f"{figure.capitalize()} of the list",
        definition=OF_LIST[figure].definition,
        terms=_terms_by_stage(line, rows, figure),
        total=total[figure],
        total_words=figure,
        deals=named_deals(line, order, [money(int(v)) for v in column[order[:FIRST_DEALS]]]),
        counted=deal_list.total,
        folded=max(0, deal_list.total - FIRST_DEALS),
        folded_value=money(int(column[order[FIRST_DEALS:]].sum())),
    )


def _terms_by_stage(line: FilterLine, rows: Ints, figure: str) -> tuple[PanelTerm, ...]:
    snapshot, reference, terms = line.snapshot, line.book.reference, []
    for stage in np.unique(snapshot.stage[rows]).tolist():
        totals = list_totals(snapshot, rows[snapshot.stage[rows] == stage])
        value = totals.weighted_minor if figure == "weighted" else totals.amount_minor
        name = f"{reference.stages[stage].name}, {reference.processes[reference.stages[stage].process][1]}"
        shown = count(totals.deals) if figure == "deals" else money(value)
        terms.append(PanelTerm(f"{name}, {plural(totals.deals, 'deal')}", shown))
    return tuple(terms)


@require_safe
def of_deal(request: PageRequest, key: str, figure: str) -> HttpResponse:
    """How a figure of one deal came about."""
    deal, line = open_deal(request, key), read_scope(request)
    one_of(figure, TERMS_OF, "is not a figure of a deal", 404)
    index = books.stored().index_of(deal.pk)
    row = int(np.searchsorted(line.snapshot.deal, -1 if index is None else index))
    if index is None or row >= len(line.snapshot.deal) or line.snapshot.deal[row] != index:
        raise Refused(f"This deal did not exist yet on {day(line.as_of)}. Choose a later date.", 404)
    terms, total = TERMS_OF[figure](line, deal, row)
    named = OF_DEAL[figure]
    panel = Panel(
        f"{named.title}, {deal.name}", named.definition, tuple(PanelTerm(*t) for t in terms), total, named.term
    )
    return panel_response(request, line, panel, f"{reverse('deals:deal', args=[key])}?{line.query()}")


Terms = list[tuple[str, str]]
TermsAndTotal = tuple[Terms, str]


def _weighted(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    snapshot = line.snapshot
    stage = line.book.reference.stages[int(snapshot.stage[row])]
    own = line.book.revisions.probability_bp[int(snapshot.row[row])] >= 0 and stage.own_probability
    of = "set on this deal" if own and snapshot.kind[row] == OPEN else f"of stage {stage.name}"
    terms = [
        ("amount", money(int(snapshot.amount_minor[row]))),
        (f"× probability, {of}", points(int(snapshot.probability_bp[row]))),
    ]
    return terms, money(int(snapshot.weighted_minor[row]))


def _stay(line: FilterLine, deal: Deal, row: int) -> Terms:
    rev, snapshot = line.book.revisions, line.snapshot
    entered = int(rev.effective_at[line.book.entered_row(snapshot.row[row])])
    stage = line.book.reference.stages[int(snapshot.stage[row])].name
    return [(f"entered {stage}", moment(_moment(entered))), ("to the end of", day(line.as_of))]


def _moment(seconds: int) -> datetime:
    return datetime.fromtimestamp(seconds, UTC)


def _days(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    spent = float(days_in_stage(line.book, line.snapshot, np.array([row]))[0])
    return _stay(line, deal, row), age(spent)


def _over(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    spent = float(days_in_stage(line.book, line.snapshot, np.array([row]))[0])
    over = float(days_over(line.book, line.snapshot, np.array([row]))[0])
    typical = line.book.reference.rules_on(line.as_of)[int(line.snapshot.stage[row])].typical_days
    terms = [*_stay(line, deal, row), ("days in the stage", age(spent)), ("− typical days", days(typical))]
    return terms, age(None if np.isnan(over) else over)


def _stays(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    stays = stays_of(line.book, line.snapshot, int(line.snapshot.deal[row]))
    terms = []
    for stay in stays:
        over = f", {days(stay.over)} over" if stay.over else ""
        name = line.book.reference.stages[stay.stage].name
        terms.append((f"{name}, entered {moment(_moment(stay.entered_at))}{over}", days(stay.days)))
    return terms, days(sum(stay.days for stay in stays))


def _slips(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    slips = slips_of(line.book, line.snapshot, int(line.snapshot.deal[row]))
    terms = [
        (f"{moment(_moment(s.at))}: {day(s.before)} to {day(s.after)}", f"{plural(s.after - s.before, 'day')}")
        for s in slips
    ]
    total = f"{plural(len(slips), 'slip')}, {plural(sum(s.after - s.before for s in slips), 'day')}"
    return terms, total


def _margin(line: FilterLine, deal: Deal, snapshot_row: int) -> TermsAndTotal:
    terms, margins = [], []
    for row in deal.lines.select_related("product").order_by("pk"):
        amount = line_amount(row.quantity_10000ths, row.unit_price_minor, row.discount_bp or 0)
        margin = line_margin(row.quantity_10000ths, amount, row.unit_cost_minor)
        margins.append(margin)
        cost = "no cost entered" if row.unit_cost_minor is None else f"cost {money(row.unit_cost_minor)}"
        sold = f"{quantity(row.quantity_10000ths)} × {money(row.unit_price_minor)}"
        less = f" less {points(row.discount_bp)}" if row.discount_bp else ""
        terms.append((f"{row.product.name}: {sold}{less}, {cost}", money(margin)))
    return terms, money(margin_of_lines(margins))


def _lines(line: FilterLine, deal: Deal, snapshot_row: int) -> TermsAndTotal:
    terms = [
        (row.product.name, money(line_amount(row.quantity_10000ths, row.unit_price_minor, row.discount_bp or 0)))
        for row in deal.lines.select_related("product").order_by("pk")
    ]
    if not deal.amount_from_lines:
        terms.append(("amount entered by hand; products are shown for comparison", ""))
    return terms, money(int(line.snapshot.amount_minor[snapshot_row]))


def _contact(line: FilterLine, deal: Deal, row: int) -> TermsAndTotal:
    last, spent = last_contacts([deal], line.ends_at)[deal.pk], contact_days([deal], line.ends_at)[deal.pk]
    interval = interval_of(deal)
    since = ("last contact", moment(last)) if last else ("no contact; created", moment(deal.created_at))
    terms = [since, ("days since then", age(spent)), ("÷ contact interval", days(float(interval)))]
    return terms, count(contact_gap(spent, interval))


def _payments(line: FilterLine, deal: Deal, snapshot_row: int) -> TermsAndTotal:
    terms, whole = [], 0
    for row in deal.payments.order_by("due_on", "pk"):
        value = whole_minor(Plan(row.due_on, row.amount_minor, row.every, row.times))
        whole += value or 0
        often = f", every {row.every}, {count(row.times) if row.times else 'without end'}" if row.every else ""
        terms.append((f"from {day(row.due_on)}{often}", money(value)))
    return terms, money(whole)


TERMS_OF: dict[str, Callable[[FilterLine, Deal, int], TermsAndTotal]] = {
    "weighted": _weighted,
    "probability": _weighted,
    "days": _days,
    "over": _over,
    "stays": _stays,
    "slips": _slips,
    "slipped": _slips,
    "margin": _margin,
    "amount": _lines,
    "gap": _contact,
    "contacted": _contact,
    "payments": _payments,
}
