"""Breakdowns as people read and choose them, custom fields included."""

from wise_tally.book.attributes import breakdowns_of_own
from wise_tally.core.breakdowns import REGISTER
from wise_tally.core.deal_attributes import OWN


def words_of(by: str) -> str:
    """A breakdown as people read it."""
    if by.startswith(OWN):
        return dict(breakdowns_of_own()).get(by, by[len(OWN) :])
    return REGISTER[by].label if by in REGISTER else by.replace("_", " ")


def with_own(accepted: tuple[str, ...]) -> tuple[str, ...]:
    """Breakdowns with those by custom fields."""
    return (*accepted, *(name for name, _ in breakdowns_of_own()))


def choices(accepted: tuple[str, ...], but: str = "") -> list[tuple[str, str]]:
    """Breakdowns with their words, custom fields last."""
    own = [entry for entry in breakdowns_of_own() if entry[0] != but]
    return [*((name, words_of(name)) for name in accepted if name != but), *own]
