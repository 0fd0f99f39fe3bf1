"""How often findings came true: of past days, the outcome of what each kind names, beside the outcome of the others.

Kinds that state a fact (a stalled deal, no contact, an overdue invoice, data that spoils figures) foretell nothing of their own; they are
not measured here and weigh little in the ranking. Days a week apart overlap, so that the
numbers are larger than what is independent behind them.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from wise_tally.core.activity import OWN_DOING, activity_attainment
from wise_tally.core.book import BookAsOf, Flags
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.calls import calls_in_force
from wise_tally.core.findings.finding import Finding
from wise_tally.core.findings.of_deals import claims
from wise_tally.core.findings.of_people import stays_past_typical
from wise_tally.core.findings.question import Question
from wise_tally.core.forecast import forecast
from wise_tally.core.loss_reasons import lost_in
from wise_tally.core.money import Ints
from wise_tally.core.monthly_trend import spans
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.reference_data import LOST, OPEN, WON
from wise_tally.core.trees import NONE

# What becomes of a deal, a lead or a rate is looked at so many days later.
DEAL_DAYS, RATE_DAYS = 56, 91
Population = tuple[Ints, Flags]
WORDS = {
    "forecast_gap": "the period ended below quota",
    "will_miss": "the rep missed the quota",
    "ahead": "the rep reached the quota",
    "decides": "the quota was reached if, and only if, the deal was won in the period",
    "claims": "the deal was not won in the period",
    "closes_late": "within 56 days lost or its close moved later",
    "likely": "the deal was won in the period",
    "unlikely": "less than half of the amounts was won in the period",
    "calls_off": "the forecast submitted for the period ran to the same side by a tenth again",
    "stays_long": "in 91 more days again a larger share went past the typical days than others'",
    "activity_below": "the month ended below its target",
    "stage_off": "in 91 more days the win rate was closer to the actual rate than to the set probability",
    "win_rate": "the next 91 days stayed on that side of the year before",
    "losses": "the next 91 days the share stayed above the year before",
    "fewer_deals": "the next 28 days stayed below the usual number",
    "leads_waiting": "within 56 days the lead became no deal",
    "sales_fall": "the next 91 days brought less than a quarter of the year before the fall",
}


@dataclass(frozen=True)
class Score:
    """Of a kind: findings and how many came true, and the same of what it was silent about."""

    named: int
    true: int
    others: int
    true_others: int

    def __add__(self, other: "Score") -> "Score":
        return Score(
            self.named + other.named,
            self.true + other.true,
            self.others + other.others,
            self.true_others + other.true_others,
        )


NOTHING = Score(0, 0, 0, 0)


@dataclass(frozen=True)
class Later:
    """The same firm later: the question 56 and 91 days on, at the end of the period and of the month."""

    deals: Question
    rates: Question
    period: Question
    month: Question


def scores(question: Question, later: Later, findings: Iterable[Finding]) -> dict[str, Score]:
    """Of each kind how the findings of one day came out; `findings` are all of that day."""
    subjects = _subjects_by_kind(findings)
    subjects["leads_waiting"] = {
        lead.index for lead in question.around.waiting if lead.days > question.bounds.lead_days
    }
    return {
        kind: _score(population, subjects.get(kind, set()))
        for kind, population in _populations(question, later).items()
    }


def _subjects_by_kind(findings: Iterable[Finding]) -> dict[str, set[int]]:
    """What each kind names: deals (indices), people, stages or places."""
    subjects: dict[str, set[int]] = {}
    for finding in findings:
        about = finding.subject.about
        ids = set(finding.deals) if finding.kind.key == "likely" or about == "deal" else {finding.subject.index}
        says_more = finding.kind.key == "forecast_gap" and finding.terms[0][0] != "quota"
        if says_more or (finding.kind.key == "will_miss" and about == "team"):
            continue
        subjects.setdefault(finding.kind.key, set()).update(ids)
    return subjects


def _score(population: Population, subjects: set[int]) -> Score:
    ids, true = population
    named = np.isin(ids, np.array(sorted(subjects), dtype=np.int64))
    return Score(int(named.sum()), int((named & true).sum()), int((~named).sum()), int((~named & true).sum()))


def _populations(question: Question, later: Later) -> Mapping[str, Population]:
    return {
        **_deals(question, later),
        **_of_period(question, later),
        **_people(question, later),
        **_process(question, later),
        **_customers(question, later),
    }


def _index(snapshot: BookAsOf, deal: Ints) -> Ints:
    """Rows of deals that an earlier snapshot had."""
    return np.asarray(np.searchsorted(snapshot.deal, deal))


def _won_in_period(question: Question, later: Question, deal: Ints) -> Flags:
    snapshot = later.snapshot
    row = _index(snapshot, deal)
    closed = snapshot.closed_on[row]
    first, last = question.period.starts_on.toordinal(), question.period.ends_on.toordinal()
    return np.asarray((snapshot.kind[row] == WON) & (closed >= first) & (closed <= last))


def _worse(question: Question, later: Question, deal: Ints) -> Flags:
    """Which open deals were lost, or have a later close, or none, by then."""
    now, then = question.snapshot, later.snapshot
    row, before = _index(then, deal), _index(now, deal)
    close, was = then.expected_close[row], now.expected_close[before]
    moved = (then.kind[row] == OPEN) & ((close > was) | ((close == NO_DAY) & (was != NO_DAY)))
    return np.asarray((then.kind[row] == LOST) | moved)


def _deals(question: Question, later: Later) -> dict[str, Population]:
    deal, big = question.open.deal, question.open.big
    worse = _worse(question, later.deals, deal)
    populations: dict[str, Population] = {"closes_late": (deal[big], worse[big])}
    won = _won_in_period(question, later.period, deal)
    category = question.snapshot.category[question.open.rows]
    close = question.snapshot.expected_close[question.open.rows]
    due = (close != NO_DAY) & (close <= question.period.ends_on.toordinal())
    sure = np.isin(category, question.book.reference.surest_first[:2])
    populations["claims"] = deal[big & due & sure], ~won[big & due & sure]
    below = ~sure & (close != NO_DAY)
    populations["likely"] = deal[below], won[below]
    quota = _reached(question, later.period)
    if quota is not None:
        populations["decides"] = deal[big], won[big] == quota
    return populations


def _reached(question: Question, later: Question) -> bool | None:
    """Whether the scope reached its quota in the end; None without one."""
    rows = forecast(later.book, later.snapshot, question.period, question.scope, question.by)
    row = next(row for row in rows if row.node == question.node)
    return None if not row.quota else row.won >= row.quota


def _of_period(question: Question, later: Later) -> dict[str, Population]:
    rows = forecast(later.period.book, later.period.snapshot, question.period, question.scope, "person")
    people = [row for row in rows if row.node != NONE and row.quota]
    ids = np.array([row.node for row in people], dtype=np.int64)
    missed = np.array([row.won < (row.quota or 0) for row in people], dtype=bool)
    reached = _reached(question, later.period)
    gap = np.array([NONE]), np.array([reached is False])
    return {"will_miss": (ids, missed), "ahead": (ids, ~missed), "forecast_gap": gap}


def _people(question: Question, later: Later) -> dict[str, Population]:
    claiming = claims(question)
    owner, amount = question.snapshot.owner[question.open.rows], question.open.amount_minor
    won = _won_in_period(question, later.period, question.open.deal)
    sure = np.isin(question.snapshot.category[question.open.rows], question.book.reference.surest_first[:2])
    close = question.snapshot.expected_close[question.open.rows]
    sure &= (close != NO_DAY) & (close <= question.period.ends_on.toordinal())
    ids, poor = [], []
    for person in np.unique(owner[sure]).tolist():
        mine = (claiming if (claiming & (owner == person)).sum() > 1 else sure) & (owner == person)
        ids.append(person)
        poor.append(int(amount[mine & won].sum()) * 2 < int(amount[mine].sum()))
    return {
        "unlikely": (np.array(ids, dtype=np.int64), np.array(poor, dtype=bool)),
        "calls_off": _calls(question, later.period),
        "stays_long": _stays(question, later.rates),
        "activity_below": _activities(question, later.month),
    }


def _calls(question: Question, later: Question) -> Population:
    """Everybody's submitted forecast of the day, and whether it lay off what was won by at least a tenth above."""
    calls = calls_in_force(question.book.reference, question.snapshot.as_of, question.period)
    rows = forecast(later.book, later.snapshot, question.period, question.scope, "person")
    won = {row.node: row.won for row in rows}
    ids = sorted(person for subject, person in calls if subject == "person" and won.get(person))
    off = [calls["person", person].amount_minor >= (1 + question.bounds.calls_error) * won[person] for person in ids]
    return np.array(ids, dtype=np.int64), np.array(off, dtype=bool)


def _stays(question: Question, later: Question) -> Population:
    """Everybody with stays entered after the day, and whether in some stage more of them went past than of others'."""
    since = later.last_days(RATE_DAYS)
    everybody = replace(later.scope, person=NONE, team=NONE)
    number, late = stays_past_typical(later.book, later.snapshot, since, everybody)
    rate = np.divide(late, number, out=np.zeros(number.shape), where=number > 0)
    rest = late.sum(axis=1, keepdims=True) - late, number.sum(axis=1, keepdims=True) - number
    others = np.divide(rest[0], rest[1], out=np.zeros(number.shape), where=rest[1] > 0)
    ids = np.flatnonzero(number.sum(axis=0))
    more = ((rate > others) & (number > 1)).any(axis=0)
    return ids, more[ids]


def _activities(question: Question, later: Question) -> Population:
    month = question.book.reference.fiscal.containing(question.snapshot.as_of, "month")
    missed: dict[int, bool] = {}
    for kind in ("", *OWN_DOING):
        done = later.around.done.of_kind(kind)
        for row in activity_attainment(later.book, later.snapshot, month, question.scope, "person", done):
            if row.forecast.node != NONE and row.forecast.quota:
                person = row.forecast.node
                missed[person] = missed.get(person, False) or row.forecast.won < row.forecast.quota
    ids = np.array(sorted(missed), dtype=np.int64)
    return ids, np.array([missed[person] for person in sorted(missed)], dtype=bool)


def _process(question: Question, later: Later) -> dict[str, Population]:
    return {
        "stage_off": _stages(question, later.rates),
        "win_rate": _rate(question, later.rates),
        "losses": _losses(question, later.rates),
        "fewer_deals": _fewer(question),
    }


def _stages(question: Question, later: Question) -> Population:
    """Stages with at least 20 closed deals then, and whether later deals won at a rate nearer to the actual than to the set one."""
    year, since = question.last_days(365), later.last_days(RATE_DAYS)
    before = {
        r.stage: r
        for group in probability_check(question.book, question.snapshot, year, question.scope)
        for r in group.stages
    }
    ids, near = [], []
    for group in probability_check(later.book, later.snapshot, since, question.scope):
        for rate in group.stages:
            was = before.get(rate.stage)
            if was is None or was.observed is None or rate.observed is None or was.decided < 20:
                continue
            ids.append(rate.stage)
            near.append(abs(rate.observed - was.observed) < abs(rate.observed - was.set_rate))
    return np.array(ids, dtype=np.int64), np.array(near, dtype=bool)


def _rate(question: Question, later: Question) -> Population:
    now, before = spans(question.book, question.snapshot, question.lately, question.scope)
    after = spans(later.book, later.snapshot, (later.last_days(RATE_DAYS),), question.scope)[0]
    if None in (now.win_rate, before.win_rate, after.win_rate):
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=bool)
    is_lower = now.win_rate < before.win_rate  # type: ignore[operator]
    still = (after.win_rate < before.win_rate) == is_lower  # type: ignore[operator]
    return np.array([NONE]), np.array([still])


def _losses(question: Question, later: Question) -> Population:
    """Whether some reason or competitor whose share had grown kept its share above the year before."""
    names, cause_of = question.around.reasons
    after_names, after_place = later.around.reasons
    now, before = (lost_in(question.book, question.snapshot, period, question.scope) for period in question.lately)
    after = lost_in(later.book, later.snapshot, later.last_days(RATE_DAYS), question.scope)
    if not (len(now) and len(before) and len(after)):
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=bool)
    grown = [
        (float((after_place[after] == after_names.index(name)).mean()), float((cause_of[before] == index).mean()))
        for index, name in enumerate(names)
        if name in after_names and (cause_of[now] == index).mean() > (cause_of[before] == index).mean()
    ]
    still = bool(grown) and sum(share > was for share, was in grown) * 2 > len(grown)
    return np.array([NONE]), np.array([still])


def _fewer(question: Question) -> Population:
    """Whether the four weeks after the day stayed below the usual number, of days on which the four weeks before did."""
    created, today = question.book.created_on[question.snapshot.deal], question.today
    lately = int(((created > today - 28) & (created <= today)).sum())
    usual = int(((created > today - 392) & (created <= today - 28)).sum()) / 13
    after = int(((question.book.created_on > today) & (question.book.created_on <= today + 28)).sum())
    if lately >= usual:
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=bool)
    return np.array([NONE]), np.array([after < usual])


def _customers(question: Question, later: Later) -> dict[str, Population]:
    customers, after = question.around.customers, later.rates.around.customers
    known = np.isin(customers.number, after.number) & (customers.sales_before_minor > 0)
    number = customers.number[known]
    then = after.sales_lately_minor[np.searchsorted(after.number, number)]
    leads = question.around.leads
    fresh = (leads.created_at < question.snapshot.cut) & (
        leads.created_at >= question.snapshot.cut - DEAL_DAYS * 86_400
    )
    places = np.flatnonzero(fresh)
    became = later.deals.around.leads.deal[places]
    none = (became == NONE) | (question.book.deals.created_at[became] >= later.deals.snapshot.cut)
    return {"sales_fall": (number, then * 4 < customers.sales_before_minor[known]), "leads_waiting": (places, none)}
