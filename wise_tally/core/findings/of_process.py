"""Findings about the sales process: probabilities that are off, rates, sizes and days that changed, losses, what dries up."""

from collections.abc import Iterator

import numpy as np

from wise_tally.core.answers.answer import Part, answer, many, named
from wise_tally.core.calendar import Period
from wise_tally.core.differences import difference_of_rates, ratio_of_frequencies, ratio_of_means
from wise_tally.core.findings.finding import KINDS, Finding, Subject
from wise_tally.core.findings.question import YEAR_DAYS, Question, money_of
from wise_tally.core.leads import lead_figures, leads_in
from wise_tally.core.lines import Filter
from wise_tally.core.loss_reasons import lost_in
from wise_tally.core.money import Ints
from wise_tally.core.monthly_trend import SpanFigures, scope_over_time, spans
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.reference_data import WON
from wise_tally.core.row_targets import row_targets
from wise_tally.core.statistics import DAY_SECONDS, ENOUGH_WITH_HISTORY

# New deals and leads of the last four weeks stand beside the year before them.
FOUR_WEEKS = 28


def stage_off(asked: Question) -> Iterator[Finding]:
    """Stages whose set probability lies outside the interval of what was seen in twelve months, of at least 20 decided deals.

    At stake: the open amounts in the stage × the difference.
    """
    year = asked.last_days(YEAR_DAYS + 1)
    stage_of = asked.snapshot.stage[asked.open.rows]
    for group in probability_check(asked.book, asked.snapshot, year, asked.scope):
        for rate in group.stages:
            if not rate.off or rate.observed is None:
                continue
            here = stage_of == rate.stage
            face = int(asked.open.amount_minor[here].sum())
            minor = round(face * abs(rate.set_rate - rate.observed))
            stage = asked.book.reference.stages[rate.stage]
            less = rate.observed < rate.set_rate
            said = answer(
                f"{{stage}} wins {'less' if less else 'more'} often than its probability says: {{seen}} of {{deals}} in twelve months, "
                "against a set probability of {set_rate}.",
                stage=named(stage.name, "stage"),
                seen=Part(rate.observed, "rate", "seen"),
                deals=many(rate.decided, "closed deal", "seen"),
                set_rate=Part(rate.set_rate, "rate", "set"),
            )
            terms = (
                ("open amounts in the stage", money_of(face)),
                ("× difference", Part(abs(rate.set_rate - rate.observed), "rate")),
            )
            kind, subject = KINDS["stage_off"], Subject("stage", stage.key, rate.stage)
            deals = tuple(asked.open.deal[here].tolist())
            yield Finding(kind, subject, said, minor, terms, kind.changeable, deals)


def _two_spans(asked: Question) -> tuple[SpanFigures, SpanFigures]:
    now, before = spans(asked.book, asked.snapshot, asked.lately, asked.scope)
    return now, before


def _scope_finding(kind: str, said: tuple, key: str = "", deals: Ints | None = None) -> Finding:  # type: ignore[type-arg]
    sentence, minor, terms = said
    of = KINDS[kind]
    found = () if deals is None else tuple(deals.tolist())
    return Finding(of, Subject("reason" if key else "scope", key), sentence, minor, terms, of.changeable, found)


def win_rate(asked: Question) -> Iterator[Finding]:
    """The win rate of closed deals of the last days against the year before, where Newcombe's interval of the difference leaves out 0.

    At stake: what was closed in the last days, at its mean won amount, × the difference.
    """
    now, before = _two_spans(asked)
    closed, earlier = now.won + now.lost, before.won + before.lost
    if min(closed, earlier) < ENOUGH_WITH_HISTORY:
        return
    apart = difference_of_rates((now.won, closed), (before.won, earlier))
    if apart is None or apart.low <= 0 <= apart.high:
        return
    rate, was = now.won / closed, before.won / earlier
    size = (now.won_value + before.won_value) // max(now.won + before.won, 1)
    days = int(asked.bounds.look_back_days)
    said = answer(
        f"The win rate of closed deals {'fell' if rate < was else 'rose'} to {{rate}} in the last {{days}}, from {{was}} in the "
        "year before: more than chance explains.",
        rate=Part(rate, "rate", "win_rate"),
        days=many(days, "day"),
        was=Part(was, "rate", "win_rate@before"),
    )
    minor = round(abs(rate - was) * closed * size)
    terms = (
        ("deals closed", Part(closed, "number")),
        ("× average deal size won", money_of(size)),
        ("× difference", Part(abs(rate - was), "rate")),
    )
    yield _scope_finding("win_rate", (said, minor, terms))


def _won_lately(asked: Question) -> tuple[Ints, Ints]:
    """Rows of the deals won in the last days and in the year before."""
    found = scope_over_time(asked.book, asked.snapshot, asked.scope)
    now, before = (found.rows[found.closed_in(period)] for period in asked.lately)
    kind = asked.snapshot.kind
    return now[kind[now] == WON], before[kind[before] == WON]


def deal_size(asked: Question) -> Iterator[Finding]:
    """The size of won deals of the last days against the year before, where Welch's interval of the ratio leaves out 1.

    At stake: the difference of the mean amounts × the deals won in the last days.
    """
    now, before = _won_lately(asked)
    amount = asked.snapshot.amount_minor
    now, before = now[amount[now] > 0], before[amount[before] > 0]
    ratio = ratio_of_means(amount[now].astype(float), amount[before].astype(float))
    if ratio is None or ratio.low <= 1 <= ratio.high:
        return
    mean, was = int(amount[now].sum()) // len(now), int(amount[before].sum()) // len(before)
    middle, middle_was = (int(np.median(amount[rows])) for rows in (now, before))
    if (middle < middle_was) != (ratio.high < 1):
        return
    said = answer(
        f"Won deals are {'smaller' if ratio.high < 1 else 'larger'}: a median of {{middle}} in the last {{days}}, "
        "{was} in the year before, more than chance explains.",
        middle=money_of(middle, "own"),
        days=many(int(asked.bounds.look_back_days), "day"),
        was=money_of(middle_was, "own"),
    )
    terms = (
        ("deals won lately", Part(len(now), "number")),
        ("× difference of average amounts", money_of(abs(mean - was))),
    )
    yield _scope_finding("deal_size", (said, abs(mean - was) * len(now), terms), deals=asked.snapshot.deal[now])


def days_to_win(asked: Question) -> Iterator[Finding]:
    """The days to win of deals won in the last days against the year before, where Welch's interval of the ratio leaves out 1.

    At stake: what the open deals bring by chance × the share by which the days changed.
    """
    now, before = _won_lately(asked)
    rows = [found[~asked.book.deals.short_form[asked.snapshot.deal[found]]] for found in (now, before)]
    took = [_days(asked, one) for one in rows]
    took = [days[days > 0] for days in took]
    ratio = ratio_of_means(took[0], took[1])
    if ratio is None or ratio.low <= 1 <= ratio.high:
        return
    middle, was = (float(np.median(days)) for days in took)
    if (middle > was) != (ratio.low > 1):
        return
    brings = round(float((asked.open.amount_minor * asked.open.chance).sum()))
    change = abs(middle - was) / max(was, 1.0)
    said = answer(
        f"Winning takes {'longer' if ratio.low > 1 else 'less time'}: a median of {{middle}} in the last {{days}}, "
        "{was} in the year before, more than chance explains.",
        middle=many(round(middle), "day", "own"),
        days=many(int(asked.bounds.look_back_days), "day"),
        was=many(round(was), "day", "own"),
    )
    terms = (("open deals by chance", money_of(brings)), ("× change", Part(change, "rate")))
    yield _scope_finding("days_to_win", (said, round(brings * min(change, 1.0)), terms), deals=asked.snapshot.deal[now])


def _days(asked: Question, rows: Ints) -> np.ndarray:
    created = asked.book.deals.created_at[asked.snapshot.deal[rows]]
    return np.asarray((asked.snapshot.closed_at[rows] - created) / DAY_SECONDS)


def losses(asked: Question) -> Iterator[Finding]:
    """A loss reason or a competitor whose share of the lost deals grew against the year before, Newcombe's interval lying above 0.

    At stake: the mean lost amount × the deals lost beyond the former share.
    """
    now, before = (lost_in(asked.book, asked.snapshot, period, asked.scope) for period in asked.lately)
    if min(len(now), len(before)) < ENOUGH_WITH_HISTORY:
        return
    amount = asked.snapshot.amount_minor
    for what, (names, place) in (("reason", asked.beside.reasons), ("competitor", asked.beside.competitors)):
        for index, name in enumerate(names):
            here, there = now[place[now] == index], before[place[before] == index]
            apart = difference_of_rates((len(here), len(now)), (len(there), len(before)), len(names))
            if apart is None or apart.low <= 0:
                continue
            share, was = len(here) / len(now), len(there) / len(before)
            size = int(amount[here].sum()) // len(here)
            more = len(here) - was * len(now)
            words = "of the lost deals went to" if what == "competitor" else "of the lost deals were lost because of"
            said = answer(
                f"{{share}} {words} “{{name}}” in the last {{days}}, {{was}} in the year before.",
                share=Part(share, "rate", f"lost@{what}"),
                name=named(name),
                days=many(int(asked.bounds.look_back_days), "day"),
                was=Part(was, "rate", f"lost_before@{what}"),
            )
            terms = (
                ("average amount", money_of(size)),
                ("× deals beyond the former share", Part(round(more * 100), "times")),
            )
            found = _scope_finding(
                "losses", (said, round(size * more), terms), f"{what} {name}", asked.snapshot.deal[here]
            )
            yield found


def fewer_deals(asked: Question) -> Iterator[Finding]:
    """Deals created in the last four weeks against the year before, where the interval of the ratio of both rates lies below 1.

    At stake: the missing deals × what was won in the year for each deal created. Conditional binomial interval.
    """
    found = scope_over_time(asked.book, asked.snapshot, asked.scope)
    lately, before = asked.last_days(FOUR_WEEKS), asked.last_days(YEAR_DAYS, FOUR_WEEKS)
    new, earlier = found.rows[found.created_in(lately)], found.created_in(before)
    ratio = ratio_of_frequencies((len(new), FOUR_WEEKS), (len(earlier), YEAR_DAYS))
    if ratio is None or ratio.high >= 1:
        return
    year = spans(asked.book, asked.snapshot, (before,), asked.scope)[0]
    usual = len(earlier) * FOUR_WEEKS / YEAR_DAYS
    each = year.won_value // max(len(earlier), 1)
    needed = _needed(asked, each)
    told = "{new} came in over the last four weeks, against a usual {usual}: later periods will show it."
    parts = {"new": many(len(new), "new deal", "own"), "usual": Part(round(usual * 100), "times", "own")}
    if needed:
        told = "{new} came in over the last four weeks, against a usual {usual}; the next quota needs {needed}."
        parts["needed"] = Part(round(needed * 100), "times", "own")
    said = answer(told, **parts)
    missing = Part(round((usual - len(new)) * 100), "times")
    terms = (("missing deals, usual − new", missing), ("× won for each new deal", money_of(each)))
    yield _scope_finding("fewer_deals", (said, round((usual - len(new)) * each), terms), deals=asked.snapshot.deal[new])


def _needed(asked: Question, each: int) -> float:
    """How many new deals four weeks must bring for the quota of the next period, at what a new deal brings; 0 without a quota."""
    fiscal = asked.book.reference.fiscal
    ahead = fiscal.shifted(asked.period, 1) if asked.period.kind in ("month", "quarter", "year") else None
    if ahead is None or not each:
        return 0.0
    quota = row_targets(asked.book, asked.snapshot, ahead, asked.scope, asked.by)(asked.node).value
    return (quota or 0) / each * FOUR_WEEKS / ahead.days


def fewer_leads(asked: Question) -> Iterator[Finding]:
    """Leads of the last four weeks against the year before, as new deals are; at stake the missing leads × what a lead brought."""
    lately, before = asked.last_days(FOUR_WEEKS), asked.last_days(YEAR_DAYS, FOUR_WEEKS)
    new = leads_in(asked.book, asked.snapshot, asked.beside.leads, lately, asked.scope)
    earlier = leads_in(asked.book, asked.snapshot, asked.beside.leads, before, asked.scope)
    numbers = len(new.value), len(earlier.value)
    ratio = ratio_of_frequencies((numbers[0], FOUR_WEEKS), (numbers[1], YEAR_DAYS))
    if ratio is None or ratio.high >= 1:
        return
    usual = numbers[1] * FOUR_WEEKS / YEAR_DAYS
    each = lead_figures(asked.snapshot, earlier).won_minor // max(numbers[1], 1)
    said = answer(
        "{new} came in over the last four weeks, against a usual {usual}: a larger drop than chance explains.",
        new=many(numbers[0], "lead", "leads"),
        usual=Part(round(usual * 100), "times", "leads@before"),
    )
    terms = (
        ("missing leads", Part(round((usual - numbers[0]) * 100), "times")),
        ("× won for each lead", money_of(each)),
    )
    yield _scope_finding("fewer_leads", (said, round((usual - numbers[0]) * each), terms))


def won_per_lead(asked: Question) -> int:
    """What a lead of the last year brought on average so far, whoever worked on it, in minor units."""
    year: Period = asked.last_days(YEAR_DAYS)
    found = leads_in(asked.book, asked.snapshot, asked.beside.leads, year, Filter())
    return lead_figures(asked.snapshot, found).won_minor // max(len(found.value), 1)
