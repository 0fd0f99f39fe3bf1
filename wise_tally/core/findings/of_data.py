"""Findings about data that spoils figures, and targets that are not the sum of their parts."""

from collections.abc import Iterator

import numpy as np

from wise_tally.core.answers.answer import answer, many, named
from wise_tally.core.book import Flags
from wise_tally.core.deal_list import overdue, undated
from wise_tally.core.findings.finding import KINDS, Finding, Subject
from wise_tally.core.findings.question import Question, money_of
from wise_tally.core.row_targets import row_targets
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.core.trees import NONE

# Deals of one customer alike in process and amount, created within so many days, are likely one.
TWIN_DAYS = 30


def _deals(
    question: Question, kind: str, holds: Flags, words: str, least_minor: int | None = None
) -> Iterator[Finding]:
    """One finding about all open deals for which something holds; at stake are their amounts, or `least_minor`."""
    if not holds.any():
        return
    number, amount = int(holds.sum()), int(question.open.amount_minor[holds].sum())
    at_stake = amount if least_minor is None else least_minor
    parts = {"deals": many(number, "open deal", "own")}
    if "{verb}" in words:
        parts["verb"] = named("has" if number == 1 else "have")
    if amount:
        parts["amount"] = money_of(amount, "own")
    sentence = answer(f"{{deals}}{' worth {amount}' if amount else ''} {words}", **parts)
    of, deals = KINDS[kind], tuple(question.open.deal[holds].tolist())
    terms = (("amounts" if least_minor is None else "deals × median open amount", money_of(at_stake)),)
    yield Finding(of, Subject("data", kind), sentence, at_stake, terms, of.changeable, deals)


def undated_deals(question: Question) -> Iterator[Finding]:
    """Open deals without an expected close."""
    words = "{verb} no expected close, so no forecast counts them."
    yield from _deals(question, "undated", undated(question.snapshot, question.open.rows), words)


def overdue_deals(question: Question) -> Iterator[Finding]:
    """Open deals whose expected close is past."""
    words = "{verb} an expected close in the past: set a new date, or close them."
    yield from _deals(question, "overdue", overdue(question.snapshot, question.open.rows), words)


def no_amount(question: Question) -> Iterator[Finding]:
    """Open deals without an amount; at stake: their number × the median open amount."""
    none = question.snapshot.amount_minor[question.open.rows] == 0
    amounts = question.open.amount_minor[~none]
    middle = int(np.median(amounts)) if len(amounts) else 0
    yield from _deals(
        question, "no_amount", none, "{verb} no amount and add nothing to any figure.", int(none.sum()) * middle
    )


def no_owner(question: Question) -> Iterator[Finding]:
    """Open deals of people who have left."""
    gone = np.isin(question.snapshot.owner[question.open.rows], question.around.left)
    yield from _deals(question, "no_owner", gone, "still {verb} an owner who has left: hand them over.")


def twins(question: Question) -> Iterator[Finding]:
    """Open deals of one customer with the same process and amount, created within 30 days of one another; at stake: all but the first."""
    deal, amount = question.open.deal, question.open.amount_minor
    customer, process = question.around.customer[deal], question.book.deals.process[deal]
    created = question.book.deals.created_at[deal]
    whole = question.snapshot.amount_minor[question.open.rows]
    order = np.lexsort((created, whole, process, customer))
    same = np.ones(max(len(order) - 1, 0), dtype=bool)
    for column in (customer, process, whole):
        same &= column[order][1:] == column[order][:-1]
    same &= (np.diff(created[order]) <= TWIN_DAYS * DAY_SECONDS) & (customer[order][1:] > 0) & (whole[order][1:] > 0)
    again = np.zeros(len(order), dtype=bool)
    again[order[1:][same]] = True
    pair = again.copy()
    pair[order[:-1][same]] = True
    at_stake = int(amount[again].sum())
    words = "look like one another, same customer, process and amount: entered twice?"
    yield from _deals(question, "twins", pair, words, at_stake)


def target_parts(question: Question) -> Iterator[Finding]:
    """The target of the company or a team of the scope that is not the sum of its parts, the one furthest off; at stake: the difference."""
    if question.by == "person":
        return
    reference = question.book.reference
    differing = []
    for by, nodes in ((question.by, [question.node]), ("team", list(range(len(reference.teams))))):
        target_of = row_targets(question.book, question.snapshot, question.period, question.scope, by)
        inside = (
            set(reference.team_tree(question.snapshot.as_of).below(question.node)) if question.by == "team" else None
        )
        for node in nodes:
            if by == "team" and inside is not None and node not in inside:
                continue
            target = target_of(node)
            if target.difference:
                name = "the organisation" if by == "company" else reference.teams[node].name
                differing.append(
                    (abs(target.difference), target, name, "" if by == "company" else reference.teams[node].key)
                )
    if not differing:
        return
    minor, target, name, key = max(differing, key=lambda one: one[0])
    assert target.own is not None
    assert target.of_parts is not None
    sentence = answer(
        "The target of {whose} is {own}, but those of its parts add up to {parts}: {difference} "
        f"{'is assigned to nobody' if target.own > target.of_parts else 'is assigned twice'}.",
        whose=named(name),
        own=money_of(target.own, "own"),
        parts=money_of(target.of_parts, "own"),
        difference=money_of(minor, "own"),
    )
    terms = (("target", money_of(target.own)), ("− its parts", money_of(target.of_parts)))
    kind = KINDS["target_parts"]
    yield Finding(kind, Subject("data", f"target {key}", NONE), sentence, minor, terms, kind.changeable)
