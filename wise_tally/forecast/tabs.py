"""The forms of the forecast: grid, what changed, range, calls."""

from dataclasses import dataclass

from django.urls import reverse

from wise_tally.scope.line import ScopeLine

TABS = (
    ("forecast:page", "Grid", ""),
    ("deals:page", "By category", "view=lanes&by=category&within=period"),
    ("forecast:through", "Through the period", ""),
    ("forecast:changed", "What changed", ""),
    ("forecast:range", "Range", ""),
    ("forecast:what-if", "What if", ""),
    ("forecast:calls", "Calls", ""),
)


@dataclass(frozen=True)
class Tab:
    """A form of the forecast, with the scope carried along."""

    label: str
    url: str
    here: bool


def tabs(line: ScopeLine, here: str) -> list[Tab]:
    """All tabs, the present one marked."""
    given = line.query()
    found = []
    for name, label, own in TABS:
        query = "&".join(part for part in (given, own) if part)
        found.append(Tab(label, reverse(name) + (f"?{query}" if query else ""), name == f"forecast:{here}"))
    return found
