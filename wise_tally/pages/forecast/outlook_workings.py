"""The workings of the outlook's figures of a row: what the mean is built of, each open deal by its chance, and the deals to come."""

import numpy as np

from wise_tally.core.outlook.distribution import outcome_of, what_if_won
from wise_tally.core.outlook.rows import OfDeals, OutlookRow, Stakes, is_told, of_deals, outlook_rows, stakes_of
from wise_tally.core.outlook.still_to_come import YEAR_DAYS
from wise_tally.core.working import lines_inside
from wise_tally.domain.formats import count, percent, plural
from wise_tally.pages.forecast.bins import bins_of
from wise_tally.pages.forecast.outlook_beside import OutlookBeside
from wise_tally.pages.forecast.place import Place
from wise_tally.web.deal_rows import names_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import Panel, PanelTerm, listed


def outlook_panel(place: Place) -> Panel:
    """The panel of a figure of the outlook; raises Refused where deals count for something else than their amount."""
    if not is_told(place.query.snapshot):
        raise Refused("There is an outlook of amounts by the day of closing only. Choose those on the page.")
    query, line = place.query, place.query.line
    whole, lines = of_deals(line.book, query.snapshot, line.period), query.lines(place.by)
    row = outlook_rows(line.book, query.snapshot, line.period, line.scope, place.by)[place.node]
    inside = lines_inside(line.book, lines, place.by, place.node)
    stake = stakes_of(line.book, lines, whole, inside)
    if place.figure.key == "outlook_open":
        parts = np.where(inside, lines.lines.parts(whole.expected_minor, line.book.reference.person_rank), 0)
        return _open(place, whole, np.bincount(lines.lines.rows, parts, len(whole.chance)).astype(np.int64))
    if place.figure.key == "outlook_to_come":
        return _to_come(place, row, stake, whole)
    if place.figure.key == "outlook_chance":
        return _chance(place, stake)
    if place.figure.key == "outlook_weighed":
        return _weighed(place, row)
    terms = [
        ("won so far", place.written(row.won)),
        ("open deals by chance", place.written(row.open_by_chance)),
        ("still to come", place.written(row.still_to_come)),
    ]
    return place.panel(_terms(terms), place.written(row.mean))


def _terms(terms: list[tuple[str, str]]) -> tuple[PanelTerm, ...]:
    return tuple(PanelTerm(*term) for term in terms)


def _open(place: Place, whole: OfDeals, expected: np.ndarray) -> Panel:
    """Each open deal at what it would be won for × its chance; stages add up."""
    line, snapshot = place.query.line, place.query.snapshot
    stages, rows = line.book.reference.stages, np.flatnonzero(expected)
    rows = rows[np.argsort(-expected[rows], kind="stable")]
    terms = []
    for stage in sorted(
        set(snapshot.stage[rows].tolist()), key=lambda one: (stages[one].process, -stages[one].position)
    ):
        here = rows[snapshot.stage[rows] == stage]
        words = (
            f"{stages[stage].name}, {plural(len(here), 'deal')}, average chance {percent(whole.chance[here].mean(), 0)}"
        )
        terms.append((words, place.written(int(expected[here].sum()))))
    texts = [f"{percent(whole.chance[row], 0)}: {place.written(int(expected[row]))}" for row in rows[:10].tolist()]
    return place.panel(_terms(terms), place.written(int(expected.sum())), **listed(line, rows, texts, expected[rows]))


def _to_come(place: Place, row: OutlookRow, stake: Stakes, whole: OfDeals) -> Panel:
    """How many deals are expected and what they bring."""
    days, to_come = whole.until.horizon, stake.may_be_won.to_come
    number = to_come.number
    terms = [
        (
            f"deals won in the last {YEAR_DAYS} days, quick enough for {plural(days, 'day')}",
            count(int((to_come.expected > 0).sum())),
        ),
        ("as many are expected to be created and won", f"{number:.1f}"),
        ("× average amount", place.written(round(to_come.mean_minor / number) if number else None)),
    ]
    note = (
        "A win that took 20 days fits into the days left as often as it can begin early enough. The number follows how many deals "
        "are created now; a row has its share of the deals created in the last year."
    )
    return place.panel(_terms(terms), place.written(row.still_to_come), note=note)


def _chance(place: Place, stake: Stakes) -> Panel:
    """The chance of quota, or of one column of the drawn distribution."""
    if place.query.decided[0]:
        return _either_way(place, stake)
    outcome, written = outcome_of(stake.may_be_won), place.written
    if place.query.part is not None:
        part = bins_of(outcome)[place.query.part]
        ends = [("outcomes from", written(part.from_minor)), ("up to", written(part.to_minor))]
        return place.panel(_terms(ends), percent(part.chance, 2))
    terms = [("won so far", written(outcome.won_minor)), ("quota", written(place.row.quota))]
    terms += [(f"P{q}: {q} % chance of at most", written(outcome.quantile(q / 100))) for q in (10, 50, 90)]
    terms.append(("chances move together, standard deviation of the log-odds", f"{stake.may_be_won.shock:.2f}"))
    return place.panel(_terms(terms), percent(outcome.chance_of(place.row.quota)))


def _either_way(place: Place, stake: Stakes) -> Panel:
    """The chance of quota if one deal is won, or is not; what that tells of all chances together counts."""
    outcome, key = place.query.decided
    book, snapshot = place.query.line.book, place.query.snapshot
    keys = [book.deals.key[deal] for deal in snapshot.deal[stake.rows].tolist()]
    if key not in keys:
        raise Refused("This deal is not open in this selection. Go back and choose one from the page.", 404)
    at = keys.index(key)
    whole, pairs = what_if_won(stake.may_be_won, (at,), place.row.quota)
    chance = pairs[0][0 if outcome == "won" else 1]
    name = names_of(book, [int(snapshot.deal[stake.rows[at]])]).get(key, key)
    terms = [
        ("chance of quota as it is", percent(whole.chance_of(place.row.quota))),
        ("quota", place.written(place.row.quota)),
        (f"what {name} would be won for", place.written(round(stake.may_be_won.amount_minor[at]))),
        ("its chance", percent(stake.may_be_won.chance[at])),
    ]
    fate = "is won" if outcome == "won" else "is not won"
    return place.panel(_terms([*terms, (f"if this deal {fate}", percent(chance))]), percent(chance))


def _weighed(place: Place, row: OutlookRow) -> Panel:
    """What was submitted and the outlook, each less what is won, by the weights that past periods teach."""
    beside, submitted, written = OutlookBeside.of(place.query.line), place.row.call, place.written
    parts = beside.weighed(place.row, row.mean)
    if parts is None or submitted is None:
        return place.panel((), written(None), note="Nothing was submitted, or too few past periods teach a weight.")
    learnt = beside.weighing
    terms = [
        ("won so far", written(row.won)),
        (f"submitted − won, × {learnt.factor:.2f}, the share of such amounts that came", written(submitted - row.won)),
        ("its weight", percent(learnt.weight, 0)),
        ("outlook − won", written(row.mean - row.won)),
        ("its weight", percent(1 - learnt.weight, 0)),
    ]
    return place.panel(_terms(terms), written(parts), note=f"Learnt from {plural(learnt.pairs, 'submitted forecast')}.")
