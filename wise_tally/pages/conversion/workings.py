"""Workings of conversion figures, from the same cohort and stays that the figures count."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from wise_tally.core.book import Flags
from wise_tally.core.breakdowns import grouping, node_named
from wise_tally.core.conversion import (
    Cohort,
    ConversionGroup,
    ConversionOptions,
    StageReach,
    cohort,
    conversion,
    lacks_history,
)
from wise_tally.core.drop_off import from_start_interval, losses, reaching, stopped_at
from wise_tally.core.exits import WAYS, ended_stays, exits
from wise_tally.core.figure import Family
from wise_tally.core.figures_of_process import OF_PROCESS
from wise_tally.core.lines import rows_inside
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.statistics import Interval
from wise_tally.core.time_in_stage import days_to_win, stay_lines, summed, time_in_stage, won_in
from wise_tally.domain.formats import count, days, money, percent
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import Refused
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, by_amount, listed

# Figures that are deals of the cohort: those that reached a stage and their money, and those that stopped there.
REACHED, STOPPED = ("reached", "value"), ("lost", "undecided")
LACKING = "Fewer than 20 of these deals have history, so no rate is shown."
COHORTS = {
    "created": "deals created in the period",
    "entered": "deals that entered the first stage in the period",
    "decided": "deals closed in the period",
}


@dataclass(frozen=True)
class Row:
    """The row of a breakdown whose figure is opened; the whole by default."""

    by: str = "company"
    node: int = 0
    per_deal: bool = False

    def take(self, line: FilterLine, person: Ints, rows: Ints) -> Ints:
        """Places in `rows` of the deals or stays of the row, by the person that counts."""
        return rows_inside(line.book, line.snapshot, person, rows, self.by, self.node)


def row_named(line: FilterLine, by: str, key: str, per_deal: bool = False) -> Row:
    """The row of an identifier; raises Refused."""
    try:
        return Row(by, node_named(grouping(line.book, by, line.as_of), key), per_deal)
    except LookupError:
        raise Refused(f"The row “{key[:60]}” does not exist. Go back and choose one from the page.", 404) from None


def cohort_of(line: FilterLine, options: ConversionOptions, row: Row) -> Cohort:
    """The cohort of a row."""
    members = cohort(line.book, line.snapshot, line.period, line.scope, options)
    return members.take(row.take(line, line.snapshot.owner[members.rows], members.rows))


def conversion_panel(line: FilterLine, options: ConversionOptions, figure: str, stage: str, row: Row) -> Panel:
    """The panel of a figure; raises Refused for figures, stages or rows that do not exist."""
    one_of(figure, OF_PROCESS, "is not a figure of this place", 404)
    if figure == "days_to_win":
        return _days_to_win(line, row)
    if figure == "time":
        return _time(line, stage, row)
    if OF_PROCESS[figure].family == Family.EXITS:
        return _exits(line, options, figure, stage)
    groups = conversion(line.book, line.snapshot, line.period, line.scope, options, row.by)
    whole = next((group for group in groups if group.node == row.node), None)
    if whole is None:
        raise Refused("This row has no deals in this selection. Go back and choose one from the page.", 404)
    if figure in ("of_created", "of_closed"):
        return _win_rate(line, options, (whole, row), figure)
    index = _shown(line, [one.stage for one in whole.stages], stage)
    if figure in STOPPED:
        return _stopped(line, options, (whole, row), figure, index)
    return _stage(line, options, (whole, row), figure, index)


def counted_deals(
    line: FilterLine, options: ConversionOptions, row: Row, figure: str, stage: int
) -> tuple[Ints, Flags]:
    """Rows of the snapshot of a row's cohort, and which of its deals a figure of a stage counts."""
    members = cohort_of(line, options, row)
    # The won stage has no place among the open ones; it comes last.
    index = members.order.index(stage) if stage in members.order else len(members.order)
    if figure in STOPPED:
        lost, undecided = stopped_at(line.book, line.snapshot, members, options, index)
        return members.rows, lost if figure == "lost" else undecided
    return members.rows, reaching(line.book, line.snapshot, members, options.strict)[:, index] & members.in_cohort


def _shown(line: FilterLine, stages: Sequence[int], key: str) -> int:
    """Place of a stage among the shown ones; raises Refused."""
    keys = [line.book.reference.stages[stage].key for stage in stages]
    one_of(key, keys, "is not a shown stage", 404)
    return keys.index(key)


Of = tuple[ConversionGroup, Row]


def _title(words: str, whole: ConversionGroup) -> str:
    return words if whole.key == "" else f"{words}, {whole.name or 'without one'}"


def _stage(line: FilterLine, options: ConversionOptions, of: Of, figure: str, index: int) -> Panel:
    whole, of_row = of
    row = whole.stages[index]
    name = line.book.reference.stages[row.stage].name
    rows, inside = counted_deals(line, options, of_row, figure, row.stage)
    named = OF_PROCESS[figure]
    terms, total = _stage_terms(line, options, whole, figure, index)
    return Panel(
        title=_title(f"{named.title}, {name}", whole),
        definition=f"{named.definition} Deals in this selection: {COHORTS[options.basis]}.",
        terms=tuple(PanelTerm(term, value) for term, value in terms),
        total=total,
        total_words=named.term,
        **by_amount(line, rows[inside]),
        not_counted=((f"did not reach {name}", whole.totals.created - row.reached),),
        note=LACKING if lacks_history(row.reached, row.without_history) else "",
    )


def _stopped(line: FilterLine, options: ConversionOptions, of: Of, figure: str, index: int) -> Panel:
    """Deals that reached a stage and not the next: the lost ones, or those not decided yet."""
    whole, of_row = of
    if index + 1 == len(whole.stages):
        raise Refused("No deals are lost after Won. Choose an earlier stage.", 404)
    row, following = (whole.stages[i] for i in (index, index + 1))
    name, then = (line.book.reference.stages[one.stage].name for one in (row, following))
    i, inside = counted_deals(line, options, of_row, figure, row.stage)
    stopped = i[inside]
    loss = losses(line.book, line.snapshot, cohort_of(line, options, of_row), options)[index]
    words = {key: OF_PROCESS[key].term for key in STOPPED}
    parts = {"lost": (loss.lost, loss.lost_minor), "undecided": (loss.undecided, loss.undecided_minor)}
    other = "undecided" if figure == "lost" else "lost"
    number, total = parts[figure]
    terms = [
        (f"reached {name}", row.reached),
        (f"− went on to {then} or won", loss.onward),
        (f"− {words[other]}", parts[other][0]),
    ]
    return Panel(
        title=_title(f"{words[figure].capitalize()} after {name}", whole),
        definition=f"Deals that reached {name} but not {then} and are {words[figure]}, with their amounts today."
        f" Deals in this selection: {COHORTS[options.basis]}.",
        terms=(
            *(PanelTerm(term, str(count(value))) for term, value in terms),
            PanelTerm("their amounts", str(money(total))),
        ),
        total=str(count(number)),
        total_words=words[figure],
        **by_amount(line, stopped),
        not_counted=((f"of this selection are not {words[figure]} after {name}", whole.totals.created - number),),
    )


def _stage_terms(
    line: FilterLine, options: ConversionOptions, whole: ConversionGroup, figure: str, index: int
) -> tuple[list[tuple[str, str]], str]:
    """Terms and total."""
    rows, stages = whole.stages, line.book.reference.stages
    row, name = rows[index], stages[rows[index].stage].name

    def base(of: StageReach) -> str:
        return str(money(of.value) if options.by_value else count(of.reached))

    if figure == "step" and index + 1 < len(rows):
        following = rows[index + 1]
        terms = [(f"reached {stages[following.stage].name}", base(following)), (f"÷ reached {name}", base(row))]
        terms += _interval(row.step_interval)
        return terms, str(percent(row.step))
    if figure == "from_start":
        terms = [(f"reached {name}", base(row)), (f"÷ reached {stages[rows[0].stage].name}", base(rows[0]))]
        terms += _interval(from_start_interval(rows[0], row, options.by_value))
        return terms, str(percent(row.from_start))
    terms = [
        ("deals in this selection", str(count(whole.totals.created))),
        ("value that reached it", str(money(row.value))),
    ]
    return terms, str(money(row.value) if figure == "value" else count(row.reached))


def _interval(interval: Interval | None) -> list[tuple[str, str]]:
    return [("likely range (95 %, Wilson)", f"{percent(interval.low)} to {percent(interval.high)}")] if interval else []


def _win_rate(line: FilterLine, options: ConversionOptions, of: Of, figure: str) -> Panel:
    whole, row = of
    members, totals = cohort_of(line, options, row), whole.totals
    kind = line.snapshot.kind[members.rows]

    def base(deals: int, value: int) -> str:
        return str(money(value) if options.by_value else count(deals))

    if figure == "of_created":
        terms = [
            PanelTerm("won", base(totals.won, totals.won_value)),
            PanelTerm(f"÷ {COHORTS[options.basis]}", base(totals.created, totals.created_value)),
        ]
        inside, rate = members.in_cohort, whole.totals.win_rate_of_created
        out: tuple[tuple[str, int], ...] = (("lost", whole.totals.lost), ("still open", whole.totals.undecided))
    else:
        closed = totals.closed_won + totals.closed_lost
        terms = [
            PanelTerm("won in the period", base(totals.closed_won, totals.closed_won_value)),
            PanelTerm("÷ won or lost in the period", base(closed, totals.closed_value)),
        ]
        inside, rate = members.closed_in_window, whole.totals.win_rate_of_closed
        out = (("lost", whole.totals.closed_lost),)
    named = OF_PROCESS[figure]
    return Panel(
        title=_title(named.title, whole),
        definition=named.definition + (" By value: amounts instead of numbers." if options.by_value else ""),
        terms=tuple(terms),
        total=str(percent(rate)),
        total_words=named.term,
        **by_amount(line, members.rows[inside & (kind == WON)]),
        not_counted=out,
        note=LACKING if rate is None and int((inside & (kind != OPEN)).sum()) else "",
    )


def _days_to_win(line: FilterLine, of: Row) -> Panel:
    rows = days_to_win(line.book, line.snapshot, line.period, line.scope, of.by)
    row = next((one for one in rows if one.node == of.node), None)
    if row is None:
        raise Refused("Nothing was won in this row; open the figure from the page again.", 404)
    won_rows, owner, spent = won_in(line.book, line.snapshot, line.period, line.scope)
    inside = of.take(line, owner, won_rows)
    won_rows, spent = won_rows[inside], spent[inside]
    order = np.argsort(-spent, kind="stable")
    return Panel(
        title="Days to win",
        definition=OF_PROCESS["days_to_win"].definition,
        terms=(PanelTerm("deals won", str(count(row.deals))), PanelTerm("average", str(days(row.mean)))),
        total=str(days(row.median)),
        total_words="median",
        **listed(line, won_rows[order], [str(days(float(v))) for v in spent[order[:FIRST_DEALS]]]),
        not_counted=(("lost in this selection", int((line.snapshot.kind == LOST).sum())),) if not row.deals else (),
        note=LACKING if row.deals and row.mean is None else "",
    )


def _exits(line: FilterLine, options: ConversionOptions, figure: str, key: str) -> Panel:
    """Stays that ended in the period, all or those that went one way, with the deals behind them."""
    reference = line.book.reference
    rows = exits(line.book, line.snapshot, line.period, line.scope, options)
    row = rows[_shown(line, [one.stage for one in rows], key)]
    ended = ended_stays(line.book, line.snapshot, line.period, line.scope)
    name, words = reference.stages[row.stage].name, OF_PROCESS[figure].term
    inside, (number, amount) = ended.stage == row.stage, row.ended
    if words in WAYS:
        way = WAYS.index(words)
        inside, number, amount = inside & (ended.way == way), row.stays[way], row.minor[way]
    deal_rows = np.unique(ended.rows[inside])
    terms = [
        PanelTerm(f"{way}: {count(n)}", str(money(row.minor[i])))
        for i, (way, n) in enumerate(zip(WAYS, row.stays, strict=True))
    ]
    return Panel(
        title=f"{words.capitalize()} from {name}" if words in WAYS else f"Deals that left {name}",
        definition=OF_PROCESS[figure].definition,
        terms=tuple(terms),
        total=str(money(amount) if options.by_value else count(number)),
        total_words=words,
        **by_amount(line, deal_rows),
    )


def _time(line: FilterLine, key: str, of: Row) -> Panel:
    reference = line.book.reference
    groups = time_in_stage(line.book, line.snapshot, line.period, line.scope, of.by, of.per_deal)
    rows = next((group.stages for group in groups if group.node == of.node), ())
    row = rows[_shown(line, [one.stage for one in rows], key)]
    lines = stay_lines(line.book, line.snapshot, line.period, line.scope)
    lines = summed(lines) if of.per_deal else lines
    lines = lines.take(of.take(line, lines.owner, lines.rows))
    mine = np.flatnonzero((lines.stage == row.stage) & lines.in_window)
    order = mine[np.argsort(-lines.seconds[mine], kind="stable")]
    words = [
        f"{days(int(lines.seconds[i]) / 86_400)}{'' if lines.ended[i] else ' so far'}" for i in order[:FIRST_DEALS]
    ]
    terms = (
        PanelTerm("entered in the period", str(count(row.stays))),
        PanelTerm("of these, left the stage", str(count(row.completed))),
        PanelTerm("average days (left)", str(days(row.mean))),
        PanelTerm("median days (left)", str(days(row.median))),
        PanelTerm("75th percentile", str(days(row.km_p75))),
        PanelTerm("in the stage now", str(count(row.running))),
        PanelTerm("their average days so far", str(days(row.running_mean_age))),
        PanelTerm("typical days, as set", str(days(row.typical_days))),
        PanelTerm("stalled (longer than typical)", str(count(row.overstaying))),
    )
    return Panel(
        title=f"Time in {reference.stages[row.stage].name}",
        definition=OF_PROCESS["time"].definition,
        terms=terms,
        total=str(days(row.km_median)),
        total_words="median",
        **listed(line, lines.rows[order], words),
    )
