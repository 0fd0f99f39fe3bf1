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


def outlook(asked: FiguresQuery) -> list[Row]:
    """Of each node what is won, open by chance, still to come and together, its range, the chance of its quota, and what leads."""
    book, snapshot, period, scope, by = asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by
    lines, whole = forecast_lines(book, snapshot, period, scope, by), of_deals(book, snapshot, period)
    parts, trust = outlook_rows(book, snapshot, period, scope, by), verdict(book, snapshot, period, scope)
    said = {"leads": trust.leads, "reason": plain(why_it_leads(trust))}
    rows = []
    for row in rows_of_lines(book, lines, (period, scope, by)):
        told: Row = dict.fromkeys(NOT_SHOWN)
        if trust.shown or trust.over:
            own = parts[row.node]
            found = outcome_of(stakes_of(book, lines, whole, lines_inside(book, lines, by, row.node)).asked)
            told = {
                "mean": asked.money(own.mean),
                **{f"p{q}": asked.money(found.quantile(q / 100)) for q in (10, 50, 90)},
                "open_by_chance": asked.money(own.open_by_chance),
                "still_to_come": asked.money(own.still_to_come),
                "chance_of_quota": found.chance_of(row.quota),
            }
        rows.append({"key": row.key, "name": row.name, "won": asked.money(row.won), **told, **said})
    return rows


def outlook_deals(asked: FiguresQuery) -> list[Row]:
    """Of each open deal of the scope its chance to be won in the period, the likeliest first, and what the chance rests on."""
    book, snapshot, period = asked.book, asked.snapshot, asked.period
    whole = of_deals(book, snapshot, period)
    kept = np.isin(whole.found.places, deals_in(book, snapshot, asked.scope))
    order = np.flatnonzero(kept)[np.argsort(-whole.found.chance[kept], kind="stable")]
    return [_deal(asked, whole, place) for place in order.tolist()]


def _deal(asked: FiguresQuery, whole: OfDeals, place: int) -> Row:
    found = chance_at(asked.book, asked.snapshot, asked.period, whole, place)
    return {
        "key": found.key,
        "chance": found.chance if found.like.enough else None,
        "stage": asked.book.reference.stages[found.like.stage].key,
        "n": len(found.like.deals),
        "k": len(found.like.won),
        "days": found.like.days,
        "or_more": found.like.or_more,
        "within": found.like.horizon,
        "by_age": found.by_age,
        "shifts": found.shifts,
        "reason": found.plain,
    }
