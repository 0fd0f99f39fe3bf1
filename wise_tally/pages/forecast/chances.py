"""Why a deal has its chance: the past deals behind it, what was corrected, and the working that lists them."""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from django.http import HttpResponse
from django.urls import reverse
from django.utils.safestring import SafeString
from django.views.decorators.http import require_safe

from wise_tally.core.answers.answer import Answer
from wise_tally.core.answers.outlook import FACTOR_WORDS, why_chance
from wise_tally.core.lines import Filter, deals_in
from wise_tally.core.money import Ints
from wise_tally.core.outlook.reference_class import ReferenceClass, reference_class
from wise_tally.core.outlook.rows import OfDeals, of_deals
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.domain.formats import percent, plural
from wise_tally.domain.org.access import allowed_scope
from wise_tally.web.answers import plain, say
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, listed, panel_response


@dataclass(frozen=True)
class ChanceOfDeal:
    """A deal's chance: by stage and age alone, and corrected; what shifts its log-odds; the past deals behind it."""

    key: str
    stage: str
    chance: float
    by_age: float
    shifts: dict[str, float]
    like: ReferenceClass

    @property
    def answer(self) -> Answer:
        """The reason in one sentence."""
        return why_chance(self.like, self.stage, self.by_age, self.chance, self.shifts)

    @property
    def plain(self) -> str:
        """The reason as text."""
        return plain(self.answer)

    def said(self, line: FilterLine) -> SafeString:
        """The reason, its numbers opening the deals they count."""
        address = reverse("forecast:chance-working", args=[self.key])
        return say(self.answer, {part: f"{address}?{line.query(counted=part)}" for part in ("like", "like_won")})


def chances_of(line: FilterLine, rows: Iterable[int]) -> dict[int, ChanceOfDeal]:
    """The chances of open deals by row of the snapshot; those whose past is too thin to tell are there without one."""
    whole = of_deals(line.book, line.snapshot, line.period)
    place = {int(row): at for at, row in enumerate(whole.found.places)}
    return {row: _chance(line, whole, place[row]) for row in rows if row in place}


def _chance(line: FilterLine, whole: OfDeals, at: int) -> ChanceOfDeal:
    book, found, standing = line.book, whole.found, whole.found.standing
    stage = int(standing.stage[at])
    age = int(standing.age_seconds[at]) // DAY_SECONDS
    return ChanceOfDeal(
        book.deals.key[int(standing.deal[at])],
        book.reference.stages[stage].name,
        float(found.chance[at]),
        float(found.by_age[at]),
        {factor: float(shift[at]) for factor, shift in found.shifts.items()},
        reference_class(book, line.snapshot.cut, whole.until.horizon, stage, age),
    )


@require_safe
def working(request: PageRequest, key: str) -> HttpResponse:
    """How a deal's chance came about, with the past deals counted, or those of them that were won."""
    line = read_scope(request)
    deal = line.book.index_by_key.get(key)
    rows = np.flatnonzero(line.snapshot.deal == deal) if deal is not None else np.zeros(0, dtype=np.int64)
    if not np.isin(rows, _open_to(request, line)).any():
        raise Refused("There is no such deal, or it is not open to you.", 404)
    chance = chances_of(line, rows.tolist()).get(int(rows[0]))
    if chance is None:
        raise Refused("This deal is closed: it has no chance any more.", 404)
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
    odds = np.log(max(chance.by_age, 1e-9) / max(1 - chance.by_age, 1e-9))
    for factor, shift in chance.shifts.items():
        if abs(shift) > 0.005:
            way = "more" if shift > 0 else "less"
            terms.append((f"{FACTOR_WORDS[factor]} makes it {way} likely", f"odds × {np.exp(shift):.2f}"))
    rest = np.log(max(chance.chance, 1e-9) / max(1 - chance.chance, 1e-9)) - odds - sum(chance.shifts.values())
    if chance.shifts and abs(rest) > 0.005:
        terms.append(("how like deals went lately", f"odds × {np.exp(rest):.2f}"))
    hidden = len(rows) - len(mine)
    names = [
        "won in time" if deal in set(chance.like.won.tolist()) else "" for deal in line.snapshot.deal[mine].tolist()
    ]
    return Panel(
        title=f"Chance to be won by {line.period_label}",
        definition=chance.plain,
        terms=tuple(PanelTerm(*term) for term in terms),
        total=percent(chance.chance) if chance.like.enough else "not told",
        total_words="chance",
        note=f"{plural(hidden, 'more past deal')} outside of what you may see." if hidden else "",
        **listed(line, mine, names),
    )
