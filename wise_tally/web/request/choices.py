"""What an address chooses among, and its days: accepted, or refused in words."""

from collections.abc import Collection, Mapping
from datetime import date

from wise_tally.core.day_reader import NotADay, iso_day
from wise_tally.web.request.refusals import BadLink, Refused


def one_of(text: str, accepted: Collection[str], what: str, status: int = 400) -> str:
    """The text where it is accepted; raises BadLink with `what` it is not, such as “is not a figure of the forecast”."""
    if text not in accepted:
        raise BadLink(f"“{text[:60]}” {what}. Choose one of: {', '.join(filter(None, accepted))}.", text, status)
    return text


def day_of(text: str) -> date:
    """The day that a part of an address names; raises Refused."""
    try:
        return iso_day(text)
    except NotADay:
        raise Refused(f"“{text[:40]}” is not a date. Enter a date as YYYY-MM-DD from 1900 to 2199.") from None


def chosen(given: Mapping[str, str], name: str, accepted: Collection[str], default: str = "") -> str:
    """What an address chooses for a parameter: the default, else the first accepted, where it says nothing. Raises Refused."""
    return one_of(given.get(name) or default or next(iter(accepted)), accepted, f"is not accepted as {name}")
