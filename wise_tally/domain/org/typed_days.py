"""Days as people type them; what is wrong comes back in words."""

from datetime import date

from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.day_reader import DayOrder, NotADay, read_day, read_span
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import Workspace


def typed_day(text: str) -> date | str:
    """A day from 1900 to 2199, or what is wrong and what is accepted."""
    workspace = Workspace.current()
    try:
        order: DayOrder = "mdy" if workspace.day_order == "mdy" else "dmy"
        return read_day(text, today(), FiscalCalendar(workspace.fiscal_year_start_month), order)
    except NotADay:
        return f"“{text[:40]}” is not a date. Enter a date such as 2026-11-28, 28 Nov 2026, +7 or end of quarter."


# What is offered where a span of days is asked for.
SPANS = (
    "this week", "this month", "next month", "this quarter", "next quarter", "this year", "next 30 days", "last 14 days",
    "last month", "last quarter",
)  # fmt: skip


def typed_span(text: str, as_of: date) -> tuple[date, date] | str:
    """First and last day of a span seen from a day, or what is wrong and what is accepted."""
    try:
        return read_span(text, as_of, FiscalCalendar(Workspace.current().fiscal_year_start_month))
    except NotADay:
        return f"“{text[:40]}” is not a span of days. Enter one such as next month, this quarter or last 14 days."
