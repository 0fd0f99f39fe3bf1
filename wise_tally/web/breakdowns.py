"""Breakdowns as people read and choose them, own fields included."""

from wise_tally.book.attributes import breakdowns_of_own
from wise_tally.core.deal_attributes import FACETS, OWN, PRODUCT_GROUP

# Every breakdown of deals that figures of a period have, own fields apart: one list for all pages that show them.
ROWS = ("team", "person", "territory", "process", "deal_type", "source", PRODUCT_GROUP, *FACETS)
WORDS = {
    "deal_type_group": "group of deal types",
    "company": "no breakdown",
    "size": "size of the deal",
    "stage": "stage it was lost from",
    "month": "month closed",
}


def words_of(by: str) -> str:
    """A breakdown as people read it."""
    if by.startswith(OWN):
        return dict(breakdowns_of_own()).get(by, by[len(OWN) :])
    return WORDS.get(by, by.replace("_", " "))


def accepted_with_own(accepted: tuple[str, ...]) -> tuple[str, ...]:
    """Breakdowns with those by own fields."""
    return (*accepted, *(name for name, _ in breakdowns_of_own()))


def choices(accepted: tuple[str, ...], but: str = "") -> list[tuple[str, str]]:
    """Breakdowns with their words, own fields last."""
    own = [entry for entry in breakdowns_of_own() if entry[0] != but]
    return [*((name, words_of(name)) for name in accepted if name != but), *own]
