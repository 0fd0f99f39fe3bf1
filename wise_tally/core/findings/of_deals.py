"""Findings about single deals: one that decides the period, big ones at risk, and those better than their category."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

from wise_tally.core.answers.answer import Answer, Part, answer, many, named
from wise_tally.core.book import Flags
from wise_tally.core.calendar import NO_DAY
from wise_tally.core.deal_list import days_in_stage, due_between, overdue, slips, slips_of
from wise_tally.core.findings.finding import KINDS, Finding, Subject
from wise_tally.core.findings.of_forecast import expected_of, own_row
from wise_tally.core.findings.question import Question, day_part, deal_part, money_of
from wise_tally.core.money import Ints
from wise_tally.core.outlook.claims import LEAST_CHANCES
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.trees import NONE

# Of so many deals it is worked out what the quota's chance is with and without them.
MOST_DECIDING = 8
# Of each reason so many deals become findings, the largest first.
MOST_OF_A_REASON = 40
LEAST_CHANGEABLE = 0.1
LIKELY = 0.5


def still_open_to(chance: float) -> float:
    """How much of a deal can still be changed by its chance p: 4p(1 − p), the variance of its outcome against the largest; at least 0.1.

    Source: own choice.
    """
    return max(4 * chance * (1 - chance), LEAST_CHANGEABLE)


def decides(question: Question) -> Iterator[Finding]:
    """The open deal on which the chance of quota hangs most, where it hangs by at least the bound; at stake is its amount."""
    quota = own_row(question).quota
    if not quota or not question.span.days_left:
        return
    deciding = expected_of(question, quota, MOST_DECIDING).deals
    best = max(deciding, key=lambda deal: deal.decides, default=None)
    if best is None or best.decides < question.bounds.decides_points:
        return
    deal = int(question.snapshot.deal[best.row])
    sentence = answer(
        f"{{deal}} decides the {question.span.word}: with it the chance of quota is {{with_it}}, without it {{without}}.",
        deal=deal_part(deal),
        with_it=Part(best.if_won or 0.0, "rate", "decides"),
        without=Part(best.if_lost or 0.0, "rate", "decides"),
    )
    terms = (("amount it would bring", money_of(best.amount_minor)),)
    yield _of_deal(question, "decides", deal, (sentence, best.amount_minor, terms), 1.0)


@dataclass(frozen=True)
class Reason:
    """Why a big deal is at risk: which of the open deals it holds for, and the end of the sentence and the day since when, by place."""

    kind: str
    holds: Flags
    clause: Callable[[int], Answer]
    since: Callable[[int], date | None]


def at_risk(question: Question) -> Iterator[Finding]:
    """Big open deals past the usual days of their stage, pushed again, without next step or contact, past their close, or closing last.

    At stake is the credited amount; what can still be changed follows from the chance. Source: common practice.
    """
    for reason in reasons(question):
        places = np.flatnonzero(reason.holds & question.open.big)[:MOST_OF_A_REASON]
        for index in places.tolist():
            clause, deal = reason.clause(index), int(question.open.deal[index])
            sentence = Answer(f"{{deal}} {clause.sentence}.", {"deal": deal_part(deal), **clause.parts})
            amount, chance = int(question.open.amount_minor[index]), float(question.open.chance[index])
            terms = (("amount", money_of(amount)), (f"chance this {question.span.word}", Part(chance, "rate")))
            share = KINDS[reason.kind].changeable * still_open_to(chance)
            yield _of_deal(question, reason.kind, deal, (sentence, amount, terms), share, reason.since(index))


def _of_deal(
    question: Question,
    kind: str,
    deal: int,
    content: tuple[Answer, int, tuple[tuple[str, Part], ...]],
    changeable: float,
    since: date | None = None,
) -> Finding:
    sentence, minor, terms = content
    row = int(np.searchsorted(question.snapshot.deal, deal))
    subject, owner = Subject("deal", question.book.deals.key[deal], deal), int(question.snapshot.owner[row])
    return Finding(KINDS[kind], subject, sentence, minor, terms, changeable, (deal,), owner, since)


def reasons(question: Question) -> tuple[Reason, ...]:
    """Every reason with the open deals that it holds for."""
    return (
        _claims(question),
        _stalled(question),
        _pushed(question),
        _no_contact(question),
        _no_next_step(question),
        _past(question),
        _late(question),
    )


def _typical(question: Question) -> Floats:
    rules = question.book.reference.rules_on(question.snapshot.as_of)
    return np.array([np.inf if rule.typical_days is None else rule.typical_days for rule in rules])[
        question.snapshot.stage[question.open.rows]
    ]


def _stalled(question: Question) -> Reason:
    spent, typical = days_in_stage(question.book, question.snapshot, question.open.rows), _typical(question)
    stages = question.snapshot.stage[question.open.rows]

    def clause(index: int) -> Answer:
        name = question.book.reference.stages[int(stages[index])].name
        over = many(int(spent[index] - typical[index]), "day", "deal_page")
        return answer("has been in {stage} {over} longer than typical", over=over, stage=named(name))

    def since(index: int) -> date | None:
        return question.snapshot.as_of - timedelta(days=int(spent[index] - typical[index]))

    return Reason("stalled", spent > typical * question.bounds.usual_days_times, clause, since)


def _pushed(question: Question) -> Reason:
    number = slips(question.book, question.snapshot).count[question.open.deal]

    def clause(index: int) -> Answer:
        return answer("has been pushed to a later date {times}", times=many(int(number[index]), "time", "deal_page"))

    def since(index: int) -> date | None:
        last = slips_of(question.book, question.snapshot, int(question.open.deal[index]))[-1]
        return date.fromordinal(question.today - (question.snapshot.cut - last.at) // DAY_SECONDS)

    return Reason("pushed", number >= question.bounds.slips, clause, since)


def claims(question: Question) -> Flags:
    """Which open deals due in the period stand in one of the two surest categories with a chance below what the category claims.

    Shape of the open deals; none where the outlook does not lead. Source: own definition (`outlook.claims`).
    """
    close, category = _close_of(question), question.snapshot.category[question.open.rows]
    due = (close > NO_DAY) & (close <= question.period.ends_on.toordinal())
    claimed = np.zeros(len(close), dtype=bool)
    if question.leads_by_outlook:
        for sure, least in zip(question.book.reference.surest_first, LEAST_CHANCES, strict=False):
            claimed |= due & (category == sure) & (question.open.chance < least)
    return claimed


def _claims(question: Question) -> Reason:
    category = question.snapshot.category[question.open.rows]

    def clause(index: int) -> Answer:
        name = question.book.reference.categories[int(category[index])].name
        chance = Part(float(question.open.chance[index]), "rate", "chance")
        return answer("is in {category} with a chance of {chance}", category=named(name), chance=chance)

    return Reason("claims", claims(question), clause, lambda _: None)


def _no_next_step(question: Question) -> Reason:
    holds = np.zeros(len(question.open.deal), dtype=bool)
    holds[question.open.big] = question.around.lacks_step(question.open.deal[question.open.big])
    return Reason("no_next_step", holds, lambda _: answer("has no next step"), lambda _: None)


def _no_contact(question: Question) -> Reason:
    missed, days = question.around.missed[question.open.deal], question.around.silent_days[question.open.deal]

    def clause(index: int) -> Answer:
        return answer("has had no contact for {days}", days=many(int(days[index]), "day", "own"))

    def since(index: int) -> date | None:
        return question.snapshot.as_of - timedelta(days=int(days[index]))

    return Reason("no_contact", missed >= question.bounds.missed_contacts, clause, since)


def _close_of(question: Question) -> Ints:
    return np.asarray(question.snapshot.expected_close[question.open.rows])


def _past(question: Question) -> Reason:
    close = _close_of(question)

    def clause(index: int) -> Answer:
        return answer("should have closed on {day}", day=day_part(int(close[index])))

    holds = overdue(question.snapshot, question.open.rows)
    return Reason("close_past", holds, clause, lambda place: date.fromordinal(int(close[place]) + 1))


def _late(question: Question) -> Reason:
    close, last = _close_of(question), question.period.ends_on.toordinal()
    first = max(last - int(question.bounds.last_days) + 1, question.today)

    def clause(index: int) -> Answer:
        words = f"is to close on {{day}}, in the last days of the {question.span.word}"
        return answer(words, day=day_part(int(close[index])))

    return Reason(
        "closes_late", due_between(question.snapshot, question.open.rows, first, last), clause, lambda _: None
    )


def likely(question: Question) -> Iterator[Finding]:
    """Open deals outside the two surest categories whose chance in the period is at least a half; at stake is what they bring by chance.

    Only by the outlook: set probabilities add nothing of their own.
    """
    if not question.leads_by_outlook:
        return
    category = question.snapshot.category[question.open.rows]
    below = ~np.isin(category, question.book.reference.surest_first[:2])
    due = _close_of(question) != NO_DAY
    places = np.flatnonzero(below & due & (question.open.chance >= LIKELY))
    if not len(places):
        return
    amount = question.open.amount_minor[places]
    brings = round(float((amount * question.open.chance[places]).sum()))
    first = int(places[0])
    sentence = answer(
        "{deals} below best case {verb} likely to be won, the largest {deal} with a chance of {chance}.",
        deals=many(len(places), "deal", "own"),
        verb=named("is" if len(places) == 1 else "are"),
        deal=deal_part(int(question.open.deal[first])),
        chance=Part(float(question.open.chance[first]), "rate", "chance"),
    )
    terms = (("amounts", money_of(int(amount.sum()))), ("by chance", money_of(brings)))
    kind = KINDS["likely"]
    yield Finding(
        kind,
        Subject("scope"),
        sentence,
        brings,
        terms,
        kind.changeable,
        tuple(question.open.deal[places].tolist()),
        NONE,
    )
