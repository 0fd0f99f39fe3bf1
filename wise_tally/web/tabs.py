"""The pages of a place as tabs, with the scope carried along."""

from collections.abc import Sequence
from dataclasses import dataclass

from django.urls import reverse

from wise_tally.web.filter_line import FilterLine

# The pages of the place Team, which two rooms share.
TEAM = (
    ("brief:page", "Brief", ""),
    ("team:page", "Dashboards", ""),
    ("team:week", "This week", ""),
    ("team:open", "Deals by rep", ""),
    ("team:one-to-ones", "One-to-ones", ""),
    ("team:gaps", "Contact gaps", ""),
)


@dataclass(frozen=True)
class Tab:
    """A page of a place."""

    label: str
    url: str
    here: bool


def tabs_of(line: FilterLine, pages: Sequence[tuple[str, str, str]], here: str) -> list[Tab]:
    """All pages (name of the address, label, own part of the query), the present one marked."""
    found = []
    for name, label, own in pages:
        query = "&".join(part for part in (line.query(), own) if part)
        found.append(Tab(label, reverse(name) + (f"?{query}" if query else ""), name == here))
    return found
