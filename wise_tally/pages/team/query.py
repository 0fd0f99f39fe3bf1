"""The pages of the place Team, with the scope carried along."""

from wise_tally.web.filter_line import FilterLine
from wise_tally.web.tabs import Tab, tabs_of

TABS = (
    ("team:page", "Dashboards", ""),
    ("team:week", "This week", ""),
    ("team:open", "Deals by rep", ""),
    ("team:one-to-ones", "One-to-ones", ""),
    ("team:gaps", "Contact gaps", ""),
)


def tabs(line: FilterLine, here: str) -> list[Tab]:
    """All pages, the present one marked."""
    return tabs_of(line, TABS, f"team:{here}")
