"""People who have left: they appear where they have figures, marked with their last day."""

from datetime import date

from wise_tally.core.derived import derived
from wise_tally.domain.formats import day
from wise_tally.domain.org.access import people_left
from wise_tally.web.filter_line import FilterLine


def leavers(line: FilterLine) -> dict[str, date]:
    """Last days, by identifier, of those who had left by the as-of day of a page."""
    return _leavers(line.firm)


@derived()
def _leavers(line: FilterLine) -> dict[str, date]:
    return people_left(line.as_of)


def name_of_person(line: FilterLine, key: str | None, name: str) -> str:
    """A person's name as lists show it: with the last day where that is past."""
    left = leavers(line).get(key or "")
    return f"{name}, left {day(left)}" if left else name
