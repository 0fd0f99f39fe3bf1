"""The headline figures above a dashboard: won, weighted, chance of quota, open and new deals, with what they were before."""

from django.urls import reverse

from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.deal_list import list_totals
from wise_tally.core.lines import deals_in
from wise_tally.core.outlook.expected import CHANCE
from wise_tally.core.reference_data import OPEN
from wise_tally.domain.formats import count, percent, plural, short
from wise_tally.pages.team.tallies.query import TallyQuestion
from wise_tally.pages.team.tallies.result import Computing, compute
from wise_tally.web.day_by_day import weeks_past
from wise_tally.web.expectation import expected_of, leading_way, trust_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.headlines import Headline
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

MONTHS = "last_12_months"


def headlines(request: PageRequest, line: FilterLine, whole: AttainmentRow) -> list[Headline]:
    """The five figures of the filter line's scope and period."""
    token = scope_node(line)[2]
    query = f"{line.query()}&node={token}"

    def opened(figure: str) -> str:
        return f"{reverse('forecast:working', args=[figure])}?{query}"

    past = weeks_past(line)
    weekly = slice(None, None, 7)
    won, behind = whole.forecast.won, whole.behind
    against = (
        "no quota set"
        if behind is None
        else f"{short(abs(behind))} {'behind' if behind > 0 else 'ahead of'} target to date"
    )
    moved = past.weighted_moved(7)
    way = leading_way(trust_of(line))
    outcome = expected_of(line, way, whole.forecast.quota).outcome
    chance = outcome.chance_of(whole.forecast.quota)
    return [
        Headline("Won", short(won), opened("won"), against, None if behind is None else behind <= 0, past.won[weekly].tolist()),
        Headline(
            "Weighted forecast", short(int(past.weighted[-1])), opened("weighted"), f"{short(abs(moved))} in the last 7 days",
            moved >= 0 if moved else None, past.weighted[weekly].tolist(),
        ),
        Headline(
            "Chance of reaching quota", percent(chance, 0), opened(CHANCE[way]),
            f"likely {short(outcome.quantile(0.1))} to {short(outcome.quantile(0.9))}",
        ),
        *_counted(request, line),
    ]  # fmt: skip


def _counted(request: PageRequest, line: FilterLine) -> list[Headline]:
    """What is open whatever its expected close, and the new deals of this month beside those of the months before."""

    rows = deals_in(line.book, line.snapshot, line.scope)
    still_open = list_totals(line.snapshot, rows[line.snapshot.kind[rows] == OPEN])
    listed = f"{reverse('deals:list-figure', args=['amount'])}?{line.query()}"
    figures = [
        Headline("Open, all close dates", short(still_open.amount_minor), listed, plural(still_open.deals, "deal"))
    ]
    new = compute(Computing(line, TallyQuestion(show="created", bucket=MONTHS), lambda: visible(request).leads()))
    if new.rows:
        *before, cell = new.rows[0].cells
        text = f"{count(int(before[-1].value or 0))} in {new.heads[-2]}"
        history = [float(one.value or 0) for one in new.rows[0].cells]
        figures.append(Headline(f"New deals in {new.heads[-1]}", new.write(cell.value), cell.url, text, None, history))
    return figures
