"""The workings of the outlook's figures of a row: what the mean is built of, each open deal by its chance, and the deals to come."""

import numpy as np

from wise_tally.core.outlook.distribution import outcome_of, what_if_won
from wise_tally.core.outlook.rows import OfDeals, OutlookRow, Stakes, has_outlook, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.still_to_come import YEAR_DAYS
from wise_tally.core.working import lines_inside
from wise_tally.domain.formats import count, percent, plural
from wise_tally.pages.forecast.bins import bins_of
from wise_tally.pages.forecast.cell import ForecastCell
from wise_tally.pages.forecast.outlook_columns import OutlookColumns
from wise_tally.web.deal_rows import names_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import Panel, PanelTerm, listed


def outlook_panel(cell: ForecastCell) -> Panel:
    """The panel of a figure of the outlook; raises Refused where deals count for something else than their amount."""
    if not has_outlook(cell.query.snapshot):
        raise Refused("There is an outlook of amounts by the day of closing only. Choose those on the page.")
    query, line = cell.query, cell.query.line
    whole, lines = of_deals(line.book, query.snapshot, line.period), query.lines(cell.by)
    row = outlook_rows(line.book, query.snapshot, line.period, line.scope, cell.by)[cell.node]
    inside = lines_inside(line.book, lines, cell.by, cell.node)
    stake = stakes_of(line.book, lines, whole, inside)
    if cell.figure.key == "outlook_open":
        parts = np.where(inside, lines.lines.parts(whole.expected_minor, line.book.reference.person_rank), 0)
        return _open(cell, whole, np.bincount(lines.lines.rows, parts, len(whole.chance)).astype(np.int64))
    if cell.figure.key == "outlook_to_come":
        return _to_come(cell, row, stake, whole)
    if cell.figure.key == "outlook_chance":
        return _chance(cell, stake)
    if cell.figure.key == "outlook_weighed":
        return _weighed(cell, row)
    terms = [
        ("won so far", cell.written(row.won)),
        ("open deals by chance", cell.written(row.open_by_chance)),
        ("still to come", cell.written(row.still_to_come)),
    ]
    return cell.panel(_terms(terms), cell.written(row.mean))


def _terms(terms: list[tuple[str, str]]) -> tuple[PanelTerm, ...]:
    return tuple(PanelTerm(*term) for term in terms)


def _open(cell: ForecastCell, whole: OfDeals, expected: np.ndarray) -> Panel:
    """Each open deal at what it would be won for × its chance; stages add up."""
    line, snapshot = cell.query.line, cell.query.snapshot
    stages, rows = line.book.reference.stages, np.flatnonzero(expected)
    rows = rows[np.argsort(-expected[rows], kind="stable")]
    terms = []
    for stage in sorted(
        set(snapshot.stage[rows].tolist()), key=lambda one: (stages[one].process, -stages[one].position)
    ):
        inside = rows[snapshot.stage[rows] == stage]
        words = f"{stages[stage].name}, {plural(len(inside), 'deal')}, average chance {percent(whole.chance[inside].mean(), 0)}"
        terms.append((words, cell.written(int(expected[inside].sum()))))
    texts = [f"{percent(whole.chance[row], 0)}: {cell.written(int(expected[row]))}" for row in rows[:10].tolist()]
    return cell.panel(_terms(terms), cell.written(int(expected.sum())), **listed(line, rows, texts, expected[rows]))


def _to_come(cell: ForecastCell, row: OutlookRow, stake: Stakes, whole: OfDeals) -> Panel:
    """How many deals are expected and what they bring."""
    days, to_come = whole.until.horizon, stake.may_be_won.to_come
    number = to_come.number
    terms = [
        (
            f"deals won in the last {YEAR_DAYS} days, quick enough for {plural(days, 'day')}",
            count(int((to_come.expected > 0).sum())),
        ),
        ("as many are expected to be created and won", f"{number:.1f}"),
        ("× average amount", cell.written(round(to_come.mean_minor / number) if number else None)),
    ]
    note = (
        "A win that took 20 days fits into the days left as often as it can begin early enough. The number follows how many deals "
        "are created now; a row has its share of the deals created in the last year."
    )
    return cell.panel(_terms(terms), cell.written(row.still_to_come), note=note)


def _chance(cell: ForecastCell, stake: Stakes) -> Panel:
    """The chance of quota, or of one column of the drawn distribution."""
    if cell.query.decided[0]:
        return _either_way(cell, stake)
    outcome, written = outcome_of(stake.may_be_won), cell.written
    if cell.query.part is not None:
        part = bins_of(outcome)[cell.query.part]
        ends = [("outcomes from", written(part.from_minor)), ("up to", written(part.to_minor))]
        return cell.panel(_terms(ends), percent(part.chance, 2))
    terms = [("won so far", written(outcome.won_minor)), ("quota", written(cell.row.quota))]
    terms += [(f"P{q}: {q} % chance of at most", written(outcome.quantile(q / 100))) for q in (10, 50, 90)]
    terms.append(("chances move together, standard deviation of the log-odds", f"{stake.may_be_won.shock:.2f}"))
    return cell.panel(_terms(terms), percent(outcome.chance_of(cell.row.quota)))


def _either_way(cell: ForecastCell, stake: Stakes) -> Panel:
    """The chance of quota if one deal is won, or is not; what that tells of all chances together counts."""
    outcome, key = cell.query.decided
    book, snapshot = cell.query.line.book, cell.query.snapshot
    keys = [book.deals.key[deal] for deal in snapshot.deal[stake.rows].tolist()]
    if key not in keys:
        raise Refused("This deal is not open in this selection. Go back and choose one from the page.", 404)
    index = keys.index(key)
    whole, pairs = what_if_won(stake.may_be_won, (index,), cell.row.quota)
    chance = pairs[0][0 if outcome == "won" else 1]
    name = names_of(book, [int(snapshot.deal[stake.rows[index]])]).get(key, key)
    terms = [
        ("chance of quota as it is", percent(whole.chance_of(cell.row.quota))),
        ("quota", cell.written(cell.row.quota)),
        (f"what {name} would be won for", cell.written(round(stake.may_be_won.amount_minor[index]))),
        ("its chance", percent(stake.may_be_won.chance[index])),
    ]
    fate = "is won" if outcome == "won" else "is not won"
    return cell.panel(_terms([*terms, (f"if this deal {fate}", percent(chance))]), percent(chance))


def _weighed(cell: ForecastCell, row: OutlookRow) -> Panel:
    """What was submitted and the outlook, each less what is won, by the weights that past periods teach."""
    columns, submitted, written = OutlookColumns.of(cell.query.line), cell.row.call, cell.written
    parts = columns.weighed(cell.row, row.mean)
    if parts is None or submitted is None:
        return cell.panel((), written(None), note="Nothing was submitted, or too few past periods teach a weight.")
    learnt = columns.weighing
    terms = [
        ("won so far", written(row.won)),
        (f"submitted − won, × {learnt.factor:.2f}, the share of such amounts that came", written(submitted - row.won)),
        ("its weight", percent(learnt.weight, 0)),
        ("outlook − won", written(row.mean - row.won)),
        ("its weight", percent(1 - learnt.weight, 0)),
    ]
    return cell.panel(_terms(terms), written(parts), note=f"Learnt from {plural(learnt.pairs, 'submitted forecast')}.")
