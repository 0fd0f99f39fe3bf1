"""The filters of the list as chips, each changed or taken off where it stands."""

from dataclasses import dataclass
from urllib.parse import urlencode

from wise_tally.pages.deals.listing import Listing


@dataclass(frozen=True)
class Chip:
    """A filter as a chip: the addresses that open it to be changed, add an alternative to it, take it off."""

    words: str
    change: str
    alternative: str
    off: str
    fault: str = ""


def filter_chips(deal_list: Listing) -> list[list[Chip]]:
    """The filters in their groups, alternatives beside each other; those that cannot be applied each alone."""
    query, groups = deal_list.query, dict[str, list[Chip]]()
    for number, clause in enumerate(deal_list.clauses):
        change = f"{query.query()}&{urlencode({'new_open': clause.text})}"
        chip = Chip(clause.words, change, query.with_alternative(clause), query.without(clause.text))
        groups.setdefault(clause.group or ("any" if query.join == "any" else str(number)), []).append(chip)
    faulty = [[Chip(one.text, "", "", query.without(one.text), one.message)] for one in deal_list.faulty]
    return [*groups.values(), *faulty]
