"""Lost, why: deals lost in the period by reason, stage, person, source, competitor, against the period before."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_safe

from wise_tally.core.answers.conversion import of_losses
from wise_tally.core.breakdowns import OF_FORECAST, grouping
from wise_tally.core.calendar import Period
from wise_tally.core.deal_attributes import PRODUCT_GROUP
from wise_tally.core.lines import owner_groups
from wise_tally.core.loss_reasons import LostTable, crossed, lost_by, lost_from, lost_in, months_lost
from wise_tally.core.money import Ints, ratio
from wise_tally.core.same_days import same_days
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import currency_sign, money, percent, plural, short
from wise_tally.pages.conversion.query import line_of
from wise_tally.web.answers import answer_sentence
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.deal_columns import lost_reason_places
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, period_words
from wise_tally.web.footer import Footer
from wise_tally.web.ink import share
from wise_tally.web.page_query import PageQuery, choice
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

# What only lost deals have, and each breakdown in which a deal stands once.
OF_LOST = {"reason": "reason", "stage": "stage", "month": "month closed"}
BY = (*OF_LOST, *(by for by in OF_FORECAST if by not in (*OF_LOST, "process", PRODUCT_GROUP)))
MOST_REASONS = 8
Sides = tuple[Ints, Ints]


@dataclass(frozen=True)
class Lost:
    """Deals lost in a period and in the one before (rows of the snapshot), with their values and reasons among the names."""

    by: str
    names: Sequence[str]
    reasons: Sequence[str]
    period: Period
    before: Period | None
    rows: Sides
    value: Sides
    reason: Sides

    @property
    def words(self) -> str:
        """The breakdown as people read it."""
        return OF_LOST.get(self.by) or words_of(self.by)

    def name(self, value: int) -> str:
        """A value as people read it."""
        return self.names[value] if value != NONE else f"without {self.words}"

    def reason_name(self, value: int) -> str:
        """A reason as people read it."""
        return self.reasons[value] if value != NONE else "no reason given"


def _choices() -> list[tuple[str, str]]:
    """The breakdowns of lost deals with their words."""
    return [(name, OF_LOST.get(name, words)) for name, words in choices(BY)]


@dataclass(frozen=True)
class LossQuery(PageQuery):
    """Lost deals by a breakdown, in numbers or money. Its addresses name the process, of which it always shows one."""

    by: str = choice(lambda: dict(_choices()), "reason", always=True)
    measure: str = choice(("number", "value"))

    def query(self, **changes: str | None) -> str:
        """The page's address with parts changed."""
        return super().query(**{"process": self.line.process_value} | changes)

    def cell(self, value: int, reason: int | None = None) -> str:
        """The query of the working of a row, or of a reason in it."""
        of = {"value": value} if reason is None else {"value": value, "reason": reason}
        return f"{self.query(measure=None)}&{urlencode(of)}"


def read_lost(request: PageRequest) -> tuple[LossQuery, Lost]:
    """The lost deals of the scope by what the address asks for; raises Refused."""
    query = LossQuery.read(line_of(request), request.GET)
    line, by = query.line, query.by
    period, before = same_days(line.book.reference.fiscal, line.period, line.as_of)
    now = lost_in(line.book, line.snapshot, period, line.scope)
    then = lost_in(line.book, line.snapshot, before, line.scope) if before else now[:0]
    reasons, reason = _reasons(line, (now, then))
    names, value = (reasons, reason) if by == "reason" else _values(line, by, (now, then), before)
    return query, Lost(by, names, reasons, period, before, (now, then), value, reason)


def _reasons(line: FilterLine, sides: Sides) -> tuple[Sequence[str], Sides]:
    """The reasons that occur, in their order, and the place of each deal's among them."""
    every, index = lost_reason_places(line)
    present = sorted(set(index[np.concatenate(sides)].tolist()) - {NONE}, key=lambda reason: every[reason])
    rank = np.full(len(every) + 1, NONE)
    rank[present] = np.arange(len(present))
    return [every[reason] for reason in present], (rank[index[sides[0]]], rank[index[sides[1]]])


def _values(line: FilterLine, by: str, sides: Sides, before: Period | None) -> tuple[Sequence[str], Sides]:
    """Names of a breakdown but the reason, and the place of each deal among them."""
    book, snapshot = line.book, line.snapshot
    now, then = sides
    if by == "stage":
        names: Sequence[str] = [stage.name for stage in book.reference.stages]
        return names, (lost_from(book, snapshot, now), lost_from(book, snapshot, then))
    if by == "month":
        # The months of the period before stand beside those of the same place in this one.
        starts = (line.period.starts_on, (before or line.period).starts_on)
        value = (months_lost(snapshot, now, starts[0]), months_lost(snapshot, then, starts[1]))
        first = book.reference.fiscal.containing(starts[0], "month")
        last = max([-1, *value[0].tolist(), *value[1].tolist()])
        return [period_words(book.reference.fiscal.shifted(first, step)) for step in range(last + 1)], value
    groups = [np.asarray(owner_groups(book, snapshot, snapshot.owner[row], row, by)) for row in sides]
    return grouping(book, by, line.as_of).names, (groups[0], groups[1])


def _table(line: FilterLine, lost: Lost) -> LostTable:
    table = lost_by(line.snapshot, list(zip(lost.rows, lost.value, strict=True)))
    if lost.by != "month":
        return table
    return LostTable(tuple(sorted(table.rows, key=lambda row: -row.value)))


@dataclass(frozen=True)
class Crossed:
    """Rows by value with a cell a reason: its number and amount, and the query of its working."""

    reasons: list[str]
    of: int
    rows: list[tuple[str, list[tuple[int, int, str]]]]


def _crossed(query: LossQuery, lost: Lost, rows: LostTable) -> Crossed | None:
    """What was lost in the period by value and reason, the reasons with the most money first; None by reason alone."""
    if lost.by == "reason":
        return None
    line = query.line
    by_reason = lost_by(line.snapshot, list(zip(lost.rows, lost.reason, strict=True)))
    columns = [row.value for row in by_reason.rows if row.deals]
    shown = columns[:MOST_REASONS]
    cells = crossed(line.snapshot, lost.rows[0], lost.value[0], lost.reason[0])
    return Crossed(
        [lost.reason_name(reason) for reason in shown],
        len(columns),
        [
            (
                lost.name(row.value),
                [(*cells.get((row.value, reason), (0, 0)), query.cell(row.value, reason)) for reason in shown],
            )
            for row in rows.rows
            if row.deals
        ],
    )


@dataclass(frozen=True)
class StagePart:
    """The stretch of a reason's bar that was lost from one stage: from there on, in percent; `grade` rises with the stages."""

    left: str
    width: str
    grade: int
    words: str


GRADES = 5


def _stage_names(line: FilterLine) -> list[tuple[int, str, int]]:
    """The open stages of the process in their order: index, name, and grade from 0 to 4."""
    stages = [*line.book.reference.open_stages(line.scope.process)]
    return [
        (stage, line.book.reference.stages[stage].name, index * (GRADES - 1) // max(1, len(stages) - 1))
        for index, stage in enumerate(stages)
    ]


def _by_stage(line: FilterLine, lost: Lost, largest: int) -> dict[int, list[StagePart]]:
    """Each value's money lost in the period by the furthest stage of its deals, the first stage first."""
    from_stage = lost_from(line.book, line.snapshot, lost.rows[0])
    cells = crossed(line.snapshot, lost.rows[0], lost.value[0], from_stage)
    parts: dict[int, list[StagePart]] = {}
    for value in sorted({value for value, _ in cells}):
        left, parts[value] = 0, []
        for stage, name, grade in (*_stage_names(line), (NONE, "no stage", 0)):
            deals, amount = cells.get((value, stage), (0, 0))
            if amount:
                words = f"{name}: {short(amount)}, {plural(deals, 'deal')}"
                parts[value].append(StagePart(share(left, largest), share(amount, largest), grade, words))
                left += amount
    return parts


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Rows by value with number and money, and what changed against the period before."""
    query, lost = read_lost(request)
    rows, everything = _table(query.line, lost), query.query(measure=None)
    answer = {
        "answer_sentence": _sentence(lost, rows, everything),
        "by": lost.by,
        "by_words": lost.words,
        "by_links": query.links("by", dict(_choices())),
        "before": lost.before and period_words(lost.before),
        "now": period_words(lost.period),
        **_drawn_rows(query, lost, rows),
        "crossed": _crossed(query, lost, rows),
        "by_value": query.measure == "value",
        "measures": query.links("measure", {"number": "number", "value": f"value, {currency_sign()}"}),
        "query": query.query(),
        "all_query": everything,
        "footer": Footer(len(lost.rows[0]), exports=exports("conversion:lost-table", everything)),
    }
    return render(request, "conversion/lost.html", answer)


def _sentence(lost: Lost, rows: LostTable, query: str) -> SafeString:
    whole = rows.whole
    before = whole.amount_before if lost.before else None
    causes = [(lost.name(row.value), row.amount_minor) for row in rows.rows]
    compared = "the same days of the previous period"
    sentence = of_losses(whole.deals, whole.amount_minor, before, causes, lost.words, compared)
    return answer_sentence(sentence, {"lost": f"{reverse('conversion:lost-working')}?{query}"})


def _drawn_rows(query: LossQuery, lost: Lost, rows: LostTable) -> dict[str, Any]:
    """The rows with their bars, divided by the stages lost after, and shares."""
    stages = [] if lost.by == "stage" else _stage_names(query.line)
    largest = max([1, *(max(row.amount_minor, row.amount_before) for row in rows.rows)])
    parts = _by_stage(query.line, lost, largest) if stages else {}
    drawn = [
        (
            lost.name(row.value),
            row,
            (share(row.amount_minor, largest), share(row.amount_before, largest), parts.get(row.value, [])),
            (rows.share(row), so_far),
            query.cell(row.value),
        )
        for row, so_far in zip(rows.rows, rows.added_up, strict=True)
    ]
    return {"stages": stages, "rows": drawn, "whole": rows.whole}


def _index(text: str, sides: Sides) -> int:
    known = {str(value): value for side in sides for value in side.tolist()}
    if text not in known:
        raise Refused("This row is not in this selection. Go back and choose one from the page.", 404)
    return int(known[text])


@dataclass(frozen=True)
class Chosen:
    """The deals of a side that a working counts, and what they are called."""

    query: LossQuery
    period: Period
    every: Ints
    rows: Ints
    name: str

    @property
    def line(self) -> FilterLine:
        """The scope."""
        return self.query.line


def chosen(request: PageRequest) -> Chosen:
    """The deals of a row, of a reason in it, or all; `side` before takes those of the period before; raises Refused."""
    query, lost = read_lost(request)
    side = 1 if request.GET.get("side") == "before" else 0
    flags, names = np.ones(len(lost.rows[side]), dtype=bool), []
    for part, values, named in (("value", lost.value, lost.name), ("reason", lost.reason, lost.reason_name)):
        if text := request.GET.get(part, ""):
            index = _index(text, values)
            flags &= values[side] == index
            names.append(named(index))
    period = lost.before if side else lost.period
    if period is None:
        raise Refused(f"{period_words(lost.period)} has not begun, so it is compared with no other period.", 404)
    every = lost.rows[side]
    return Chosen(query, period, every, every[flags], ", ".join(names) or "all")


@require_safe
def working(request: PageRequest) -> HttpResponse:
    """The lost deals of a row or a cell, the most money first."""
    behind = chosen(request)
    back = f"{reverse('conversion:lost')}?{behind.query.query()}"
    return panel_response(request, behind.line, _panel(behind), back)


def _panel(behind: Chosen) -> Panel:
    column, others = behind.line.snapshot.amount_minor, len(behind.every) - len(behind.rows)
    order = behind.rows[np.argsort(-column[behind.rows], kind="stable")]
    amount = column[order]
    total, whole = int(amount.sum()), int(column[behind.every].sum())
    return Panel(
        title=f"Lost, {behind.name}",
        definition=f"Deals lost in {period_words(behind.period)}, with their amounts. The reason is the one entered when "
        "the deal was lost; the stage is the furthest one it reached.",
        terms=(
            PanelTerm(f"{plural(len(order), 'deal')}", money(total)),
            PanelTerm("share of all lost deals", percent(ratio(total, whole))),
        ),
        total=money(total),
        total_words="lost",
        **listed(behind.line, order, [money(int(value)) for value in amount[:FIRST_DEALS]], amount),
        not_counted=(("lost for another reason", others),) if others else (),
    )


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The rows as a file, or the reasons within them in numbers or money as the page shows."""
    query, lost = read_lost(request)
    rows, money_asked = _table(query.line, lost), query.measure == "value"
    sheets = {"": lambda: _rows_sheet(lost, rows)}
    if crossed_rows := _crossed(query, lost, rows):
        sheets["reasons"] = lambda: _reasons_sheet(lost, crossed_rows, money_asked)
    return chosen_sheet(request, sheets, kind)


def _rows_sheet(lost: Lost, rows: LostTable) -> Sheet:
    cells = [(lost.name(r.value), r.deals, r.amount_minor, r.deals_before, r.amount_before) for r in rows.rows]
    header = (lost.words, "deals", "amount", "deals, earlier", "amount, earlier")
    return Sheet("loss reasons", header, frozenset({"amount", "amount, earlier"}), cells)


def _reasons_sheet(lost: Lost, of: Crossed, in_money: bool) -> Sheet:
    cells = [(name, *(amount if in_money else deals for deals, amount, _ in row)) for name, row in of.rows]
    return Sheet("loss reasons by row", (lost.words, *of.reasons), frozenset(of.reasons if in_money else ()), cells)
