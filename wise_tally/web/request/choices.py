"""What an address chooses among: accepted, or refused in words."""

from collections.abc import Collection, Mapping

from wise_tally.web.request.refusals import BadLink


def one_of(text: str, accepted: Collection[str], what: str, status: int = 400) -> str:
    """The text where it is accepted; raises BadLink with `what` it is not, such as “is not a figure of the forecast”."""
    if text not in accepted:
        raise BadLink(f"“{text[:60]}” {what}. Choose one of: {', '.join(filter(None, accepted))}.", text, status)
    return text


def chosen(given: Mapping[str, str], name: str, accepted: Collection[str], default: str = "") -> str:
    """What an address chooses for a parameter: the default, else the first accepted, where it says nothing. Raises Refused."""
    return one_of(given.get(name) or default or next(iter(accepted)), accepted, f"is not accepted as {name}")
