"""A new order as a list's form sends it: all entries as they were dragged, or one of them a place up or down."""

from collections.abc import Mapping, Sequence

from wise_tally.web.request.refusals import Refused

STEPS = {"up": -1, "down": 1}


def order_of(posted: Mapping[str, str], keys: Sequence[str], one: str, words: str) -> list[str]:
    """Identifiers in the order posted; `one` is moved as `to` says. Raises Refused with `words` where it cannot be."""
    if posted.get("order"):
        return [key for key in posted["order"].split(",") if key]
    step = STEPS.get(posted.get("to", ""))
    if step is None or one not in keys:
        raise Refused(words)
    order = [key for key in keys if key != one]
    order.insert(min(max(keys.index(one) + step, 0), len(order)), one)
    return order
