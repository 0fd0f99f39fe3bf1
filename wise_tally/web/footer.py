"""The foot of a page: what its figures include, and its files."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Footer:
    """What is included and not (`what`: one of it), without a close date and overdue (minor units), links to files."""

    counted: int
    not_counted: int = 0
    not_counted_url: str = ""
    undated: int | None = None
    overdue: int | None = None
    lacking: int = 0
    undated_deals: int = 0
    untouched_deals: int = 0
    list_query: str = ""
    # What deals count for, and how many have none of it.
    without: tuple[str, int] | None = None
    exports: tuple[tuple[str, str], ...] = ()
    what: str = "deal"
