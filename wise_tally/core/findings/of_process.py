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


def stage_off(question: Question) -> Iterator[Finding]:
    """Stages whose set probability lies outside the interval of the actual win rate of twelve months, of at least 20 closed deals.

    At stake: the open amounts in the stage × the difference.
    """
    year = question.last_days(YEAR_DAYS + 1)
    stage_of = question.snapshot.stage[question.open.rows]
    for group in probability_check(question.book, question.snapshot, year, question.scope):
        for rate in group.stages:
            if not rate.off or rate.observed is None:
                continue
            inside = stage_of == rate.stage
            face = int(question.open.amount_minor[inside].sum())
            minor = round(face * abs(rate.set_rate - rate.observed))
            stage = question.book.reference.stages[rate.stage]
            less = rate.observed < rate.set_rate
            sentence = answer(
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
            deals = tuple(question.open.deal[inside].tolist())
            yield Finding(kind, subject, sentence, minor, terms, kind.changeable, deals)


def _two_spans(question: Question) -> tuple[SpanFigures, SpanFigures]:
    now, before = spans(question.book, question.snapshot, question.lately, question.scope)
    return now, before


def _scope_finding(kind: str, content: tuple, key: str = "", deals: Ints | None = None) -> Finding:  # type: ignore[type-arg]
    sentence, minor, terms = content
    of = KINDS[kind]
    named_deals = () if deals is None else tuple(deals.tolist())
    return Finding(of, Subject("reason" if key else "scope", key), sentence, minor, terms, of.changeable, named_deals)


def win_rate(question: Question) -> Iterator[Finding]:
    """The win rate of closed deals of the last days against the year before, where Newcombe's interval of the difference leaves out 0.

    At stake: what was closed in the last days, at its mean won amount, × the difference.
    """
    now, before = _two_spans(question)
    closed, earlier = now.won + now.lost, before.won + before.lost
    if min(closed, earlier) < ENOUGH_WITH_HISTORY:
        return
    apart = difference_of_rates((now.won, closed), (before.won, earlier))
    if apart is None or apart.low <= 0 <= apart.high:
        return
    rate, was = now.won / closed, before.won / earlier
    size = (now.won_value + before.won_value) // max(now.won + before.won, 1)
    days = int(question.bounds.look_back_days)
    sentence = answer(
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
    yield _scope_finding("win_rate", (sentence, minor, terms))


def _won_lately(question: Question) -> tuple[Ints, Ints]:
    """Rows of the deals won in the last days and in the year before."""
    over_time = scope_over_time(question.book, question.snapshot, question.scope)
    now, before = (over_time.rows[over_time.closed_in(period)] for period in question.lately)
    kind = question.snapshot.kind
    return now[kind[now] == WON], before[kind[before] == WON]


def deal_size(question: Question) -> Iterator[Finding]:
    """The size of won deals of the last days against the year before, where Welch's interval of the ratio leaves out 1.

    At stake: the difference of the mean amounts × the deals won in the last days.
    """
    now, before = _won_lately(question)
    amount = question.snapshot.amount_minor
    now, before = now[amount[now] > 0], before[amount[before] > 0]
    ratio = ratio_of_means(amount[now].astype(float), amount[before].astype(float))
    if ratio is None or ratio.low <= 1 <= ratio.high:
        return
    mean, was = int(amount[now].sum()) // len(now), int(amount[before].sum()) // len(before)
    middle, middle_was = (int(np.median(amount[rows])) for rows in (now, before))
    if (middle < middle_was) != (ratio.high < 1):
        return
    sentence = answer(
        f"Won deals are {'smaller' if ratio.high < 1 else 'larger'}: a median of {{middle}} in the last {{days}}, "
        "{was} in the year before, more than chance explains.",
        middle=money_of(middle, "own"),
        days=many(int(question.bounds.look_back_days), "day"),
        was=money_of(middle_was, "own"),
    )
    terms = (
        ("deals won lately", Part(len(now), "number")),
        ("× difference of average amounts", money_of(abs(mean - was))),
    )
    yield _scope_finding("deal_size", (sentence, abs(mean - was) * len(now), terms), deals=question.snapshot.deal[now])


def days_to_win(question: Question) -> Iterator[Finding]:
    """The days to win of deals won in the last days against the year before, where Welch's interval of the ratio leaves out 1.

    At stake: what the open deals bring by chance × the share by which the days changed.
    """
    now, before = _won_lately(question)
    rows = [won[~question.book.deals.short_form[question.snapshot.deal[won]]] for won in (now, before)]
    took = [_days(question, row) for row in rows]
    took = [days[days > 0] for days in took]
    ratio = ratio_of_means(took[0], took[1])
    if ratio is None or ratio.low <= 1 <= ratio.high:
        return
    middle, was = (float(np.median(days)) for days in took)
    if (middle > was) != (ratio.low > 1):
        return
    brings = round(float((question.open.amount_minor * question.open.chance).sum()))
    change = abs(middle - was) / max(was, 1.0)
    sentence = answer(
        f"Winning takes {'longer' if ratio.low > 1 else 'less time'}: a median of {{middle}} in the last {{days}}, "
        "{was} in the year before, more than chance explains.",
        middle=many(round(middle), "day", "own"),
        days=many(int(question.bounds.look_back_days), "day"),
        was=many(round(was), "day", "own"),
    )
    terms = (("open deals by chance", money_of(brings)), ("× change", Part(change, "rate")))
    yield _scope_finding(
        "days_to_win", (sentence, round(brings * min(change, 1.0)), terms), deals=question.snapshot.deal[now]
    )


def _days(question: Question, rows: Ints) -> np.ndarray:
    created = question.book.deals.created_at[question.snapshot.deal[rows]]
    return np.asarray((question.snapshot.closed_at[rows] - created) / DAY_SECONDS)


def losses(question: Question) -> Iterator[Finding]:
    """A loss reason or a competitor whose share of the lost deals grew against the year before, Newcombe's interval lying above 0.

    At stake: the mean lost amount × the deals lost beyond the former share.
    """
    now, before = (lost_in(question.book, question.snapshot, period, question.scope) for period in question.lately)
    if min(len(now), len(before)) < ENOUGH_WITH_HISTORY:
        return
    amount = question.snapshot.amount_minor
    for what, (names, cause_of) in (("reason", question.around.reasons), ("competitor", question.around.competitors)):
        for index, name in enumerate(names):
            lately, earlier = now[cause_of[now] == index], before[cause_of[before] == index]
            apart = difference_of_rates((len(lately), len(now)), (len(earlier), len(before)), len(names))
            if apart is None or apart.low <= 0:
                continue
            share, was = len(lately) / len(now), len(earlier) / len(before)
            size = int(amount[lately].sum()) // len(lately)
            more = len(lately) - was * len(now)
            words = "of the lost deals went to" if what == "competitor" else "of the lost deals were lost because of"
            sentence = answer(
                f"{{share}} {words} “{{name}}” in the last {{days}}, {{was}} in the year before.",
                share=Part(share, "rate", f"lost@{what}"),
                name=named(name),
                days=many(int(question.bounds.look_back_days), "day"),
                was=Part(was, "rate", f"lost_before@{what}"),
            )
            terms = (
                ("average amount", money_of(size)),
                ("× deals beyond the former share", Part(round(more * 100), "times")),
            )
            finding = _scope_finding(
                "losses", (sentence, round(size * more), terms), f"{what} {name}", question.snapshot.deal[lately]
            )
            yield finding


def fewer_deals(question: Question) -> Iterator[Finding]:
    """Deals created in the last four weeks against the year before, where the interval of the ratio of both rates lies below 1.

    At stake: the missing deals × what was won in the year for each deal created. Conditional binomial interval.
    """
    over_time = scope_over_time(question.book, question.snapshot, question.scope)
    lately, before = question.last_days(FOUR_WEEKS), question.last_days(YEAR_DAYS, FOUR_WEEKS)
    new, earlier = over_time.rows[over_time.created_in(lately)], over_time.created_in(before)
    ratio = ratio_of_frequencies((len(new), FOUR_WEEKS), (len(earlier), YEAR_DAYS))
    if ratio is None or ratio.high >= 1:
        return
    year = spans(question.book, question.snapshot, (before,), question.scope)[0]
    usual = len(earlier) * FOUR_WEEKS / YEAR_DAYS
    each = year.won_value // max(len(earlier), 1)
    needed = _needed(question, each)
    words = "{new} came in over the last four weeks, against a usual {usual}: later periods will show it."
    parts = {"new": many(len(new), "new deal", "own"), "usual": Part(round(usual * 100), "times", "own")}
    if needed:
        words = "{new} came in over the last four weeks, against a usual {usual}; the next quota needs {needed}."
        parts["needed"] = Part(round(needed * 100), "times", "own")
    sentence = answer(words, **parts)
    missing = Part(round((usual - len(new)) * 100), "times")
    terms = (("missing deals, usual − new", missing), ("× won for each new deal", money_of(each)))
    yield _scope_finding(
        "fewer_deals", (sentence, round((usual - len(new)) * each), terms), deals=question.snapshot.deal[new]
    )


def _needed(question: Question, each: int) -> float:
    """How many new deals four weeks must bring for the quota of the next period, at what a new deal brings; 0 without a quota."""
    fiscal = question.book.reference.fiscal
    ahead = fiscal.shifted(question.period, 1) if question.period.kind in ("month", "quarter", "year") else None
    if ahead is None or not each:
        return 0.0
    quota = row_targets(question.book, question.snapshot, ahead, question.scope, question.by)(question.node).value
    return (quota or 0) / each * FOUR_WEEKS / ahead.days


def fewer_leads(question: Question) -> Iterator[Finding]:
    """Leads of the last four weeks against the year before, as new deals are; at stake the missing leads × what a lead brought."""
    lately, before = question.last_days(FOUR_WEEKS), question.last_days(YEAR_DAYS, FOUR_WEEKS)
    new = leads_in(question.book, question.snapshot, question.around.leads, lately, question.scope)
    earlier = leads_in(question.book, question.snapshot, question.around.leads, before, question.scope)
    numbers = len(new.value), len(earlier.value)
    ratio = ratio_of_frequencies((numbers[0], FOUR_WEEKS), (numbers[1], YEAR_DAYS))
    if ratio is None or ratio.high >= 1:
        return
    usual = numbers[1] * FOUR_WEEKS / YEAR_DAYS
    each = lead_figures(question.snapshot, earlier).won_minor // max(numbers[1], 1)
    sentence = answer(
        "{new} came in over the last four weeks, against a usual {usual}: a larger drop than chance explains.",
        new=many(numbers[0], "lead", "leads"),
        usual=Part(round(usual * 100), "times", "leads@before"),
    )
    terms = (
        ("missing leads", Part(round((usual - numbers[0]) * 100), "times")),
        ("× won for each lead", money_of(each)),
    )
    yield _scope_finding("fewer_leads", (sentence, round((usual - numbers[0]) * each), terms))


def won_per_lead(question: Question) -> int:
    """What a lead of the last year brought on average so far, whoever worked on it, in minor units."""
    year: Period = question.last_days(YEAR_DAYS)
    of_year = leads_in(question.book, question.snapshot, question.around.leads, year, Filter())
    return lead_figures(question.snapshot, of_year).won_minor // max(len(of_year.value), 1)
