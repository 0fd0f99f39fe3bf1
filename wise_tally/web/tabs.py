"""The pages of a place as tabs, with the scope carried along."""

from collections.abc import Sequence
from dataclasses import dataclass

from django.urls import reverse

from wise_tally.web.filter_line import FilterLine

# The pages of each place: address, label, own part of the query.
PAGES = {
    "forecast": (
        ("forecast:page", "Overview", ""),
        ("deals:page", "By category", "view=lanes&by=category&within=period"),
        ("forecast:through", "Trend", ""),
        ("forecast:changed", "What changed", ""),
        ("forecast:outlook", "Outlook", ""),
        ("forecast:what-if", "What if", ""),
        ("forecast:calls", "Submitted forecasts", ""),
        ("forecast:accuracy", "Forecast accuracy", ""),
    ),
    "conversion": (
        ("conversion:page", "Stage conversion", ""),
        ("conversion:leads", "Lead conversion", ""),
        ("conversion:time", "Time in stage", ""),
        ("conversion:probability-check", "Probability check", ""),
        ("conversion:lost", "Loss reasons", ""),
        ("conversion:over-time", "Monthly trend", ""),
    ),
    "attainment": (
        ("attainment:page", "Won vs quota", ""),
        ("attainment:year", "Year progress", ""),
        ("attainment:compared", "Period comparison", ""),
        ("attainment:commissions", "Commissions", ""),
        ("attainment:cash", "Cash calendar", ""),
    ),
    "team": (
        ("brief:page", "Brief", ""),
        ("team:page", "Dashboards", ""),
        ("team:week", "This week", ""),
        ("team:open", "Deals by rep", ""),
        ("team:one-to-ones", "One-to-ones", ""),
        ("team:gaps", "Contact gaps", ""),
    ),
}
# Under which tab a page stands that is none itself; all others stand under the first page of their room.
UNDER = {"attainment:statement": "attainment:commissions", "team:one-to-one": "team:one-to-ones"}


@dataclass(frozen=True)
class Tab:
    """A page of a place."""

    label: str
    url: str
    is_current: bool


def tabs_at(line: FilterLine | None, page: str, view_name: str) -> list[Tab]:
    """The tabs of a place, that of the page with an address (by its name) marked; none without a filter line."""
    if line is None:
        return []
    pages = PAGES.get(page, ())
    own = UNDER.get(view_name, view_name)
    is_tab = any(name == own for name, _, _ in pages)
    return tabs_of(line, pages, own if is_tab else f"{view_name.partition(':')[0]}:page")


def tabs_of(line: FilterLine, pages: Sequence[tuple[str, str, str]], present: str) -> list[Tab]:
    """All pages (name of the address, label, own part of the query), the present one marked."""
    tabs = []
    for name, label, own in pages:
        query = "&".join(part for part in (line.query(), own) if part)
        tabs.append(Tab(label, reverse(name) + (f"?{query}" if query else ""), name == present))
    return tabs
