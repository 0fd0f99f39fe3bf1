"""The pages of the place Team, with the scope carried along."""

from wise_tally.web.filter_line import FilterLine
from wise_tally.web.tabs import TEAM, Tab, tabs_of


def tabs(line: FilterLine, here: str) -> list[Tab]:
    """All pages, the present one marked."""
    return tabs_of(line, TEAM, f"team:{here}")
