"""The forms of the forecast: grid, what changed, outlook, calls."""

from wise_tally.web.filter_line import FilterLine
from wise_tally.web.tabs import Tab, tabs_of

TABS = (
    ("forecast:page", "Overview", ""),
    ("deals:page", "By category", "view=lanes&by=category&within=period"),
    ("forecast:through", "Trend", ""),
    ("forecast:changed", "What changed", ""),
    ("forecast:outlook", "Outlook", ""),
    ("forecast:what-if", "What if", ""),
    ("forecast:calls", "Submitted forecasts", ""),
    ("forecast:accuracy", "Forecast accuracy", ""),
)


def tabs(line: FilterLine, here: str) -> list[Tab]:
    """All tabs, the present one marked."""
    return tabs_of(line, TABS, f"forecast:{here}")
