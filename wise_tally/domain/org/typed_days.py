"""Days as people type them; what is wrong comes back in words."""

from datetime import date

from wise_tally.core.calendar import FiscalCalendar
from wise_tally.core.day_reader import DayOrder, NotADay, read_day
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
