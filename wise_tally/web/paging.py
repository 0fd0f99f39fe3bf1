"""Pages of a long list."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from wise_tally.core.number_reader import whole_number
from wise_tally.web.request.viewing import PageRequest


@dataclass(frozen=True)
class Page:
    """One page of a list: its number from 1, how many there are, and the places of its rows."""

    number: int
    pages: int
    total: int
    first: int
    last: int


def page_of(request: PageRequest, total: int, size: int) -> Page:
    """The page that the address asks for; a number that is none or too high means the nearest there is."""
    return page_at(whole_number(request.GET.get("page", "1")) or 1, total, size)


def page_at(wanted: int, total: int, size: int) -> Page:
    """The page of this number, the last one where it is too high."""
    pages = max(1, -(-total // size))
    number = min(wanted, pages)
    return Page(number, pages, total, (number - 1) * size, number * size)


# Rows that stand side by side on one page: more are turned over, and all of them are in the file.
SIDE_BY_SIDE = 50
Row = TypeVar("Row")


def paged(
    request: PageRequest, rows: Sequence[Row], query: str, size: int = SIDE_BY_SIDE
) -> tuple[Sequence[Row], dict[str, Any]]:
    """The rows of the page that the address asks for, and what its template shows of the others; `query` is the page's address."""
    sheet = page_of(request, len(rows), size)
    before_and_after = neighbours(sheet, lambda number: f"{query}&page={number}" if query else f"page={number}")
    return rows[sheet.first : sheet.last], {"page": sheet, **before_and_after}


def neighbours(page: Page, query: Callable[[str], str]) -> dict[str, str]:
    """Addresses of the pages before and after, empty where there is none; `query` makes one of a page's number."""
    return {
        "before": query(str(page.number - 1)) if page.number > 1 else "",
        "after": query(str(page.number + 1)) if page.number < page.pages else "",
    }
