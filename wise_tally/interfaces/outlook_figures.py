"""The outlook as plain data: its rows with their ranges, and the chance of each open deal with the past deals behind it."""

import numpy as np

from wise_tally.core.answers.outlook import why_it_leads
from wise_tally.core.forecast import forecast_lines, rows_of_lines
from wise_tally.core.lines import deals_in
from wise_tally.core.outlook.distribution import outcome_of
from wise_tally.core.outlook.rows import OfDeals, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.verdict import verdict
from wise_tally.core.working import lines_inside
from wise_tally.interfaces.question import FiguresQuery, Row
from wise_tally.web.answers import plain
from wise_tally.web.chances import chance_at

# What a row holds where too few deals were decided for an outlook.
NOT_SHOWN = ("mean", "p10", "p50", "p90", "open_by_chance", "still_to_come", "chance_of_quota")


def outlook(query: FiguresQuery) -> list[Row]:
    """Of each node what is won, open by chance, still to come and together, its range, the chance of its quota, and what leads."""
    book, snapshot, period, scope, by = query.book, query.snapshot, query.period, query.scope, query.question.by
    lines, whole = forecast_lines(book, snapshot, period, scope, by), of_deals(book, snapshot, period)
    parts, trust = outlook_rows(book, snapshot, period, scope, by), verdict(book, snapshot, period, scope)
    why = {"leads": trust.leads, "reason": plain(why_it_leads(trust))}
    rows = []
    for row in rows_of_lines(book, lines, (period, scope, by)):
        blank: Row = dict.fromkeys(NOT_SHOWN)
        if trust.shown or trust.over:
            own = parts[row.node]
            outcome = outcome_of(stakes_of(book, lines, whole, lines_inside(book, lines, by, row.node)).may_be_won)
            blank = {
                "mean": query.money(own.mean),
                **{f"p{q}": query.money(outcome.quantile(q / 100)) for q in (10, 50, 90)},
                "open_by_chance": query.money(own.open_by_chance),
                "still_to_come": query.money(own.still_to_come),
                "chance_of_quota": outcome.chance_of(row.quota),
            }
        rows.append({"key": row.key, "name": row.name, "won": query.money(row.won), **blank, **why})
    return rows


def outlook_deals(query: FiguresQuery) -> list[Row]:
    """Of each open deal of the scope its chance to be won in the period, the likeliest first, and what the chance rests on."""
    book, snapshot, period = query.book, query.snapshot, query.period
    whole = of_deals(book, snapshot, period)
    inside = np.isin(whole.chances.places, deals_in(book, snapshot, query.scope))
    order = np.flatnonzero(inside)[np.argsort(-whole.chances.chance[inside], kind="stable")]
    return [_deal(query, whole, index) for index in order.tolist()]


def _deal(query: FiguresQuery, whole: OfDeals, index: int) -> Row:
    chance = chance_at(query.book, query.snapshot, query.period, whole, index)
    return {
        "key": chance.key,
        "chance": chance.chance if chance.like.enough else None,
        "stage": query.book.reference.stages[chance.like.stage].key,
        "n": len(chance.like.deals),
        "k": len(chance.like.won),
        "days": chance.like.days,
        "or_more": chance.like.or_more,
        "within": chance.like.horizon,
        "by_age": chance.by_age,
        "shifts": chance.shifts,
        "reason": chance.plain,
    }
