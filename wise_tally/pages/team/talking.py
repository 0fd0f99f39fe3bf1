"""The agenda of a one-to-one: each point in words, with its money and one way to act on it."""

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date

import numpy as np
from django.urls import reverse

from wise_tally.core.book import BookAsOf
from wise_tally.core.money import Ints
from wise_tally.core.talking_points import OpenDeals, TalkingPoint, talking_points
from wise_tally.domain.deals.selectors import without_next_step
from wise_tally.domain.formats import day, plural
from wise_tally.web import deal_columns
from wise_tally.web.deal_rows import DealRow, deal_rows
from wise_tally.web.filter_line import FilterLine

NAMED = 2


@dataclass(frozen=True)
class AgendaPoint:
    """A point: what it is, the largest deals in words, its money in minor units (None for none), and its action."""

    words: str
    detail: str
    minor: int | None
    action: str
    href: str


# Of each kind: what is said of how many deals, what of each, and the action with its address.
WORDS: dict[str, tuple[str, Callable[[DealRow, int], str], str]] = {
    "overdue": ("past the expected close", lambda row, _: day(row.expected_close), "Show deals"),
    "stalled": (
        "longer in stage than typical",
        lambda row, _: f"{row.days_over:.0f} days over in {row.stage_name}",
        "Show deals",
    ),
    "contact": ("not contacted within the interval", lambda _, missed: f"{missed}× missed", "Show contact gaps"),
    "moved_out": ("moved out of the period", lambda row, _: f"now {day(row.expected_close)}", "Show what changed"),
    "no_next_step": ("without a next step", lambda row, _: row.stage_name, "Show deals"),
}
QUICK = {"overdue": "overdue", "stalled": "overstaying", "no_next_step": "no next step"}


def open_deals(line: FilterLine, rows: Ints, amount_minor: Ints) -> OpenDeals:
    """A person's open deals with what the points ask about."""
    keys = [line.book.deals.key[deal] for deal in line.snapshot.deal[rows].tolist()]
    lacking = without_next_step(keys)
    has_next = np.array([key not in lacking for key in keys], dtype=bool)
    return OpenDeals(rows, amount_minor, deal_columns.gaps(line, rows), has_next)


def agenda(line: FilterLine, deals: OpenDeals, earlier: BookAsOf, is_called: bool) -> list[AgendaPoint]:
    """The points about a person's open deals, the most money first, and whether a forecast is still to be submitted.

    `earlier` is the book as of the day compared with.
    """
    found = talking_points(line.book, line.snapshot, earlier, line.period, deals)
    shown = deal_rows(line, [int(deals.rows[i]) for point in found for i in point.places[:NAMED]])
    points = [_point(line, point, deals, shown, earlier.as_of) for point in found]
    if not is_called and line.period.ends_on >= line.as_of:
        page = f"{reverse('forecast:calls')}?{line.query()}"
        points.append(AgendaPoint("No forecast submitted yet", "for this period", None, "Submit a forecast", page))
    return points


def _point(
    line: FilterLine, point: TalkingPoint, deals: OpenDeals, shown: dict[int, DealRow], since: date
) -> AgendaPoint:
    words, remark, action = WORDS[point.kind]
    said = [
        f"{row.name}: {remark(row, int(deals.missed[i]))}"
        for i in point.places[:NAMED].tolist()
        if (row := shown.get(int(deals.rows[i])))
    ]
    more = len(point.places) - len(said)
    detail = "; ".join(said) + (f"; {more} more" if more > 0 else "")
    pages = {"contact": "team:gaps", "moved_out": "forecast:changed"}
    query = line.query()
    if point.kind in QUICK:
        query += f"&only={QUICK[point.kind].replace(' ', '+')}"
    elif point.kind == "moved_out":
        query += f"&from={since.isoformat()}"
    href = f"{reverse(pages.get(point.kind, 'deals:page'))}?{query}"
    return AgendaPoint(f"{plural(len(point.places), 'deal')} {words}", detail, point.amount_minor, action, href)
