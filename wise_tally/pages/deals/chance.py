"""The working of a deal's chance: the past deals that stood alike, those of them that were won, and what was corrected."""

from math import exp

import numpy as np
from django.http import HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.answers.outlook import FACTOR_WORDS
from wise_tally.core.lines import Filter, deals_in
from wise_tally.core.money import Ints
from wise_tally.core.outlook.corrections import log_odds
from wise_tally.domain.formats import percent, plural
from wise_tally.domain.org.access import allowed_scope
from wise_tally.pages.deals.deal_page import open_deal
from wise_tally.web.chances import ChanceOfDeal, chances_of
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, listed, panel_response

# Shifts of the odds by less than a half percent are not mentioned.
LEAST_SHIFT = 0.005


@require_safe
def working(request: PageRequest, key: str) -> HttpResponse:
    """How a deal's chance came about, with the past deals counted, or those of them that were won."""
    open_deal(request, key)
    line = read_scope(request)
    rows = np.flatnonzero(line.snapshot.deal == line.book.index_by_key.get(key, -1)).tolist()
    chance = chances_of(line, rows).get(rows[0]) if rows else None
    if chance is None:
        raise Refused("This deal is not open on that day: it has no chance to be told.", 404)
    counted = chance.like.won if request.GET.get("counted") == "like_won" else chance.like.deals
    back = f"{reverse('forecast:outlook')}?{line.query()}"
    return panel_response(request, line, _panel(request, line, chance, np.unique(counted)), back)


def _open_to(request: PageRequest, line: FilterLine) -> Ints:
    """Rows of the deals that the viewer may see, whatever the page is narrowed to."""
    scope = allowed_scope(request.viewer, line.book.reference, line.today, Filter())
    return deals_in(line.book, line.snapshot, scope)


def _panel(request: PageRequest, line: FilterLine, chance: ChanceOfDeal, counted: Ints) -> Panel:
    rows = np.searchsorted(line.snapshot.deal, counted)
    mine = np.intersect1d(rows, _open_to(request, line))
    terms = [("by its stage and days there", percent(chance.by_age))]
    before, after = (float(log_odds(np.array([one]))[0]) for one in (chance.by_age, chance.chance))
    lately = after - before - sum(chance.shifts.values())
    shifts = {
        **{FACTOR_WORDS[factor]: shift for factor, shift in chance.shifts.items()},
        "how deals went lately": lately,
    }
    for words, shift in shifts.items():
        if abs(shift) > LEAST_SHIFT:
            terms.append((f"{words} makes it {'more' if shift > 0 else 'less'} likely", f"odds × {exp(shift):.2f}"))
    hidden = len(rows) - len(mine)
    names = [
        "won in time" if deal in set(chance.like.won.tolist()) else "" for deal in line.snapshot.deal[mine].tolist()
    ]
    return Panel(
        title=f"Chance to be won in {line.period_label}",
        definition=chance.plain,
        terms=tuple(PanelTerm(*term) for term in terms),
        total=percent(chance.chance) if chance.like.enough else "not told",
        total_words="chance",
        note=f"{plural(hidden, 'more past deal')} outside of what you may see." if hidden else "",
        **listed(line, mine, names),
    )
