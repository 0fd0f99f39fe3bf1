"""Commissions of a period: who earns what, statement by statement, and what changed since the last one."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from functools import cached_property
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from wise_tally.core.answers.results import of_commissions
from wise_tally.core.breakdowns import Grouping, grouping
from wise_tally.core.commission import (
    PARTNER,
    PERSON,
    CommissionLine,
    CommissionSum,
    Difference,
    Rates,
    StatedLine,
    added_by_deal,
    commissions,
    since_statement,
    summed,
    together,
)
from wise_tally.core.lines import Filter
from wise_tally.domain.deals.models import Partner
from wise_tally.domain.formats import day, money, plural, points
from wise_tally.domain.org.access import May, Viewer, sees_partners_pay, sees_pay
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import CommissionRate, Person, RateAboveQuota
from wise_tally.domain.targets.statement_actions import issue_statement, last_statement
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.deal_rows import names_of
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.page_query import PageQuery, choice
from wise_tally.web.paging import paged
from wise_tally.web.request.choices import day_of, one_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

SUBJECT_WORDS = {PERSON: "people", PARTNER: "partners"}
FIGURES = {"commission": "commission", "credited": "credited amount", "taken_back": "clawed back"}


def rates_of(subject: str) -> Rates:
    """The rates of all people or partners, in the order of the book."""
    model = Person if subject == PERSON else Partner
    base = list(model._default_manager.order_by("pk").values_list("key", "commission_rate_bp"))
    dated: dict[str, list[tuple[int, int]]] = {}
    rows = CommissionRate.objects.filter(subject=subject).order_by("from_on")
    for key, from_on, rate_bp in rows.values_list("subject_key", "from_on", "rate_bp"):
        dated.setdefault(key, []).append((from_on.toordinal(), rate_bp))
    above: dict[str, list[tuple[int, int]]] = {}
    if subject == PERSON:
        higher = RateAboveQuota.objects.order_by("from_on").values_list("person__key", "from_on", "rate_bp")
        for key, from_on, rate_bp in higher:
            # Before its first day nobody earns more than the usual rate.
            above.setdefault(key, [(0, 0)]).append((from_on.toordinal(), rate_bp))
    plain = tuple(tuple(dated.get(key) or ([] if rate is None else [(0, rate)])) for key, rate in base)
    return Rates(plain, tuple(tuple(above.get(key, ())) for key, _ in base))


@dataclass(frozen=True)
class Commissions(PageQuery):
    """The commissions of a scope as far as the viewer may know them: lines, sums and names."""

    subject: str = choice(SUBJECT_WORDS, name="of")
    viewer: Viewer = field(kw_only=True)

    @cached_property
    def _every(self) -> tuple[CommissionLine, ...]:
        line = self.line
        return commissions(line.book, line.snapshot, line.period, line.scope, rates_of(self.subject), self.subject)

    @cached_property
    def _known(self) -> frozenset[int]:
        """The subjects whose pay the viewer may know."""
        earning = {line.subject for line in self._every}
        return frozenset(node for node in earning if self.may_know(self.group.key_and_name(node)[0] or ""))

    @cached_property
    def lines(self) -> tuple[CommissionLine, ...]:
        """The lines of the scope and period."""
        return tuple(line for line in self._every if line.subject in self._known)

    @property
    def hidden(self) -> int:
        """How many others earn something in the scope."""
        return len({line.subject for line in self._every} - self._known)

    def may_know(self, key: str) -> bool:
        """Whether the viewer may know what this subject earns."""
        reference, day = self.line.book.reference, self.line.today
        if self.subject == PERSON:
            return sees_pay(self.viewer, reference, day, key)
        return sees_partners_pay(self.viewer, reference, day)

    @cached_property
    def group(self) -> Grouping:
        """The people or partners."""
        return grouping(self.line.book, self.subject, self.line.as_of)

    def of(self, key: str) -> tuple[CommissionLine, ...]:
        """The lines of one subject."""
        node = self.group.keys.index(key)
        return tuple(line for line in self.lines if line.subject == node)

    def whole_of(self, key: str) -> "Commissions":
        """The same of all deals, whatever else the scope keeps: a statement is never of a part.

        Raises Refused for a subject that is not there or whose pay the viewer may not know.
        """
        if key not in self.group.keys or not self.may_know(key):
            raise Refused(
                f"{self.subject.capitalize()} “{key[:60]}” not found. Go back and choose one from the page.", 404
            )
        return replace(self, line=replace(self.line, scope=Filter()))

    def rows(self) -> list[tuple[str, str, CommissionSum]]:
        """Identifier, name and sum of those who earned, the most first."""
        rows = [(*self.group.key_and_name(one.subject), one) for one in summed(self.lines)]
        return sorted(
            ((k or "", n or "", one) for k, n, one in rows), key=lambda row: (-row[2].commission_minor, row[1])
        )

    def stated(self, lines: tuple[CommissionLine, ...]) -> list[StatedLine]:
        """Lines as a statement keeps them."""
        keys = self.line.book.deals.key
        return [
            StatedLine(keys[one.deal], one.on, one.taken_back, one.amount_minor, one.commission_minor) for one in lines
        ]

    def statement_query(self, key: str, **more: str) -> str:
        """The same of one subject alone, for its workings and files."""
        return f"{self.query()}&{urlencode({'whose': key, **more})}"

    def query(self, **changes: str | None) -> str:
        """The page's address with parts changed; it always names the period, as that of a statement must not move."""
        return super().query(**{"period": self.line.period.text} | changes)


def _read(request: PageRequest) -> Commissions:
    return Commissions.read(read_scope(request, "quarter"), request.GET, viewer=request.viewer)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """What everybody in this selection earns in the period."""
    statements = _read(request)
    whole = together(summed(statements.lines))
    everyone = statements.rows()
    rows, turned = paged(request, everyone, statements.query())
    earned = [(name, one.commission_minor) for _, name, one in everyone]
    sentence = of_commissions(whole, earned, statements.subject)
    answer = {
        "answer_sentence": answer_sentence(
            sentence, workings("attainment:commissions-working", statements.query(), "commission", "taken_back")
        ),
        "page_query": statements,
        "subjects": statements.links("of", SUBJECT_WORDS),
        "whole": whole,
        "rows": [(key, name, one, statements.statement_query(key)) for key, name, one in rows],
        **turned,
        "footer": Footer(len(whole.deals), exports=exports("attainment:commissions-table", statements.query())),
    }
    return render(request, "attainment/commissions.html", answer)


@dataclass(frozen=True)
class StatementRow:
    """A line of a statement with the deal's name."""

    line: CommissionLine
    key: str
    name: str


@require_safe
def statement(request: PageRequest, key: str) -> HttpResponse:
    """One subject's statement, to be read, printed and handed out."""
    statements = _read(request).whole_of(key)
    lines, period = statements.of(key), statements.line.period
    last = last_statement(statements.subject, key, period.starts_on, period.ends_on)
    files = exports("attainment:commissions-table", statements.statement_query(key))
    answer = {
        "page_query": statements,
        "key": key,
        "name": statements.group.names[statements.group.keys.index(key)],
        "whole": summed(lines)[0] if lines else None,
        "rows": _rows(statements, lines),
        "whose": statements.statement_query(key, all="yes"),
        "last": last,
        "changes": _changes(statements, lines, last.lines) if last else [],
        "may_issue": request.viewer.may(May.SET_RULES) and not statements.line.is_past,
        "footer": Footer(len({one.deal for one in lines}), exports=files),
    }
    return render(request, "attainment/statement.html", answer)


def _rows(statements: Commissions, lines: tuple[CommissionLine, ...]) -> list[StatementRow]:
    book = statements.line.book
    keys, names = [book.deals.key[line.deal] for line in lines], names_of(book, [line.deal for line in lines])
    return [StatementRow(line, key, names.get(key, key)) for line, key in zip(lines, keys, strict=True)]


def _changes(
    statements: Commissions, lines: tuple[CommissionLine, ...], issued: list[Any]
) -> list[tuple[str, Difference]]:
    changes = since_statement([StatedLine(*line) for line in issued], statements.stated(lines))
    keys = [(change.after or change.before).deal for change in changes]  # type: ignore[union-attr]
    index_of = statements.line.book.index_by_key
    names = names_of(statements.line.book, [index_of[key] for key in keys if key in index_of])
    return [(names.get(key, key), one) for key, one in zip(keys, changes, strict=True)]


@require_POST
@changing_needs(May.SET_RULES)
def issue(request: PageRequest, key: str) -> HttpResponse:
    """Keep the statement as handed out today."""
    statements = _read(request).whole_of(key)
    if statements.line.is_past:
        raise Refused("Statements can only be issued as of today. Switch to today first.", 422)
    lines = [
        [one.deal, one.on, one.taken_back, one.amount_minor, one.commission_minor]
        for one in statements.stated(statements.of(key))
    ]
    span = (statements.line.period.starts_on, statements.line.period.ends_on)
    issue_statement(request.viewer, (statements.subject, key), span, lines, now())
    messages.success(request, "Statement issued. Later changes are listed below it.")
    return redirect(f"{reverse('attainment:statement', args=[key])}?{statements.query()}")


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """How a commission came about: of all, of one subject, or of one of its deals."""
    statements = _read(request)
    one_of(figure, FIGURES, "is not a figure of commissions", 404)
    key, deal = request.GET.get("whose", ""), request.GET.get("deal", "")
    statements = statements.whole_of(key) if key and request.GET.get("all") else statements
    if key and key not in statements.group.keys:
        raise Refused(
            f"{statements.subject.capitalize()} “{key[:60]}” not found. Go back and choose one from the page.", 404
        )
    lines = statements.of(key) if key else statements.lines
    if deal:
        on = day_of(request.GET.get("on", "")).toordinal()
        chosen = [one for one in lines if statements.line.book.deals.key[one.deal] == deal and one.on == on]
        if not chosen:
            raise Refused("This statement has no such line; open the figure from the page again.", 404)
        panel = _panel_of_deal(statements, chosen[0])
    else:
        panel = _panel_of_sum(statements, figure, lines, key)
    return panel_response(request, statements.line, panel, f"{reverse('attainment:commissions')}?{statements.query()}")


def _panel_of_deal(statements: Commissions, line: CommissionLine) -> Panel:
    terms = [("credited won amount", money(line.amount_minor))]
    if line.above_minor:
        terms += [
            ("of it up to the quota", money(line.amount_minor - line.above_minor)),
            ("above the quota", money(line.above_minor)),
            ("× rate above quota", points(line.above_bp)),
        ]
    terms.append(
        (f"× rate valid on {day(line.on) if not line.taken_back else 'the day of closing'}", points(line.rate_bp))
    )
    note = "Clawed back: the deal was reopened on this day." if line.taken_back else ""
    title = f"Commission, {statements.group.names[line.subject]}"
    terms_of = tuple(PanelTerm(*term) for term in terms)
    return Panel(title, DEFINITION, terms_of, money(line.commission_minor), "commission", note=note)


DEFINITION = (
    "Credited amount of each deal won × the rate valid on its closing day. Amounts above quota earn the "
    "rate above quota, in order of closing. If a won deal is reopened later, its commission is clawed "
    "back in that period. Partners earn on the full amount."
)


def _deals(line: FilterLine, lines: Sequence[CommissionLine], figure: str) -> dict[str, Any]:
    """The deals of statement lines with what each adds to a sum, the largest first."""
    adds = added_by_deal(lines, figure == "credited")
    deals, amount = (np.array(list(part), dtype=np.int64) for part in (adds.keys(), adds.values()))
    indices = np.searchsorted(line.snapshot.deal, deals)
    return listed(line, indices, [money(int(value)) for value in amount[:FIRST_DEALS]], amount)


def _panel_of_sum(statements: Commissions, figure: str, lines: tuple[CommissionLine, ...], key: str) -> Panel:
    earned = [one for one in lines if not one.taken_back]
    back = [one for one in lines if one.taken_back]
    whole = together(summed(lines))
    column = "credited_minor" if figure == "credited" else "commission_minor"
    terms = [
        (f"{words}, {plural(len({one.deal for one in part}), 'deal')}", money(getattr(together(summed(part)), column)))
        for words, part in (("earned", earned), ("clawed back", back))
    ]
    name = statements.group.names[statements.group.keys.index(key)] if key else "all people in this selection"
    return Panel(
        f"{FIGURES[figure].capitalize()}, {name}",
        DEFINITION,
        tuple(PanelTerm(*term) for term in (terms[1:] if figure == "taken_back" else terms)),
        money(getattr(whole, f"{figure}_minor")),
        FIGURES[figure],
        **_deals(statements.line, back if figure == "taken_back" else lines, figure),
        note=f"{plural(whole.without_rate, 'deal')} without a commission rate: no commission."
        if whole.without_rate
        else "",
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The sums of all, or the lines of one statement, as a file."""
    statements = _read(request)
    if key := request.GET.get("whose", ""):
        return sheet_response(_statement_sheet(statements.whole_of(key), key), kind)
    header = (statements.subject, "credited", "commission", "clawed back", "deals", "without a rate")
    sums = [
        (name, one.credited_minor, one.commission_minor, one.taken_back_minor, len(one.deals), one.without_rate)
        for _, name, one in statements.rows()
    ]
    return sheet_response(Sheet("commissions", header, frozenset(header[1:4]), sums), kind)


def _statement_sheet(statements: Commissions, key: str) -> Sheet:
    header = ("deal", "name", "on", "clawed back", "credited", "rate, %", "above quota", "rate above, %", "commission")
    rows: list[tuple[Any, ...]] = [
        (row.key, row.name, date.fromordinal(row.line.on).isoformat(), "yes" if row.line.taken_back else "no",
         row.line.amount_minor, _percent(row.line.rate_bp), row.line.above_minor, _percent(row.line.above_bp),
         row.line.commission_minor)
        for row in _rows(statements, statements.of(key))
    ]  # fmt: skip
    return Sheet("commission statement", header, frozenset({"credited", "above quota", "commission"}), rows)


def _percent(rate_bp: int | None) -> float | None:
    return None if rate_bp is None else rate_bp / 100
