"""Findings about customers: overdue invoices beside open deals, falling sales, contact gaps, leads that wait."""

from collections.abc import Iterator

import numpy as np

from wise_tally.core.answers.answer import Answer, Part, answer, many, named
from wise_tally.core.differences import ratio_of_frequencies
from wise_tally.core.findings.finding import KINDS, Finding, Kind, Subject
from wise_tally.core.findings.of_process import won_per_lead
from wise_tally.core.findings.question import Question, day_part, money_of
from wise_tally.core.money import Ints, sum_by_group
from wise_tally.core.trees import NONE


def _open_by_customer(question: Question) -> tuple[Ints, Ints]:
    """The place of each open deal's customer among the customers (-1 none), and the open amount of each customer."""
    customers, of = question.around.customers, question.around.customer[question.open.deal]
    if not len(customers.number):
        return np.full(len(of), NONE), np.zeros(0, dtype=np.int64)
    index = np.minimum(np.searchsorted(customers.number, of), len(customers.number) - 1)
    index = np.where(customers.number[index] == of, index, NONE)
    known = index != NONE
    return index, sum_by_group(question.open.amount_minor[known], index[known], len(customers.number))


def _of_customer(
    question: Question, kind: Kind, index: int, content: tuple[Answer, int, tuple[tuple[str, Part], ...]], deals: Ints
) -> Finding:
    sentence, minor, terms = content
    customers = question.around.customers
    subject = Subject("customer", customers.key[index], int(customers.number[index]))
    whose = NONE
    if len(deals):
        whose = int(question.snapshot.owner[np.searchsorted(question.snapshot.deal, deals[0])])
    return Finding(kind, subject, sentence, minor, terms, kind.changeable, tuple(deals.tolist()), whose)


def _name(question: Question, index: int) -> Part:
    return Part(int(question.around.customers.number[index]), "customer", "customer")


def owes(question: Question) -> Iterator[Finding]:
    """Customers who owe a share of their open deals for longer than the bounds, with falling sales mentioned. At stake: the open deals."""
    customers = question.around.customers
    of, open_minor = _open_by_customer(question)
    late = (customers.owed_since > 0) & (question.today - customers.owed_since >= question.bounds.owed_days)
    large = (open_minor > 0) & (customers.owed_minor >= question.bounds.owed_share * open_minor)
    for index in np.flatnonzero(late & large).tolist():
        deals = question.open.deal[of == index]
        owed, since = int(customers.owed_minor[index]), int(customers.owed_since[index])
        now, before = int(customers.sales_minor[index]), int(customers.sales_before_minor[index])
        words = "{who} owes {owed}, {days} overdue, and has {deals} worth {open}"
        falls = before > 0 and 1 - now / before >= question.bounds.sales_fall
        sentence = answer(
            f"{words}; its sales fell by {{fall}}." if falls else f"{words}.",
            who=_name(question, index),
            owed=money_of(owed, "customer"),
            days=many(question.today - since, "day", "own"),
            deals=many(len(deals), "open deal", "own"),
            open=money_of(int(open_minor[index]), "own"),
            **({"fall": Part(1 - now / before, "rate", "own")} if falls else {}),
        )
        terms: tuple[tuple[str, Part], ...] = (
            ("open deals", money_of(int(open_minor[index]))),
            ("the oldest invoice was due on", day_part(since)),
        )
        if falls:
            terms = (*terms, ("sales of twelve months", money_of(now)), ("of the twelve before", money_of(before)))
        yield _of_customer(question, KINDS["owes"], index, (sentence, int(open_minor[index]), terms), deals)


def sales_fall(question: Question) -> Iterator[Finding]:
    """Customers whose sales of twelve months fell by at least the bound, and whose invoices became rarer by more than chance explains.

    At stake: by how much they fell. Amounts alone fall and rise by chance; the interval is of the ratio of two frequencies.
    """
    customers = question.around.customers
    before, decline = customers.sales_before_minor, customers.sales_before_minor - customers.sales_minor
    chosen = (before > 0) & (decline >= question.bounds.sales_fall * before)
    for index in np.flatnonzero(chosen).tolist():
        counts = int(customers.invoices[index]), int(customers.invoices_before[index])
        ratio = ratio_of_frequencies((counts[0], 1.0), (counts[1], 1.0))
        chosen[index] = ratio is not None and ratio.high < 1
    of, _ = _open_by_customer(question)
    for index in np.flatnonzero(chosen).tolist():
        minor, was = int(decline[index]), int(before[index])
        sentence = answer(
            "{who} bought {now} in the last twelve months, {was} in the twelve before: {share} less.",
            who=_name(question, index),
            now=money_of(int(customers.sales_minor[index]), "own"),
            was=money_of(was, "own"),
            share=Part(minor / was, "rate", "own"),
        )
        terms = (("sales before", money_of(was)), ("− sales now", money_of(int(customers.sales_minor[index]))))
        yield _of_customer(
            question, KINDS["sales_fall"], index, (sentence, minor, terms), question.open.deal[of == index]
        )


def silent(question: Question) -> Iterator[Finding]:
    """All open deals whose customers waited longer than their contact interval, in one finding; at stake are their amounts."""
    late = question.around.missed[question.open.deal] > 0
    if not late.any():
        return
    deals, amount = question.open.deal[late], question.open.amount_minor[late]
    days = many(int(question.around.silent_days[deals[0]]), "day")
    first, worth = Part(int(deals[0]), "deal", "deal"), money_of(int(amount.sum()), "own")
    if len(deals) == 1:
        words = "{deal}, worth {amount}, has been without contact for {days}, longer than its contact interval."
        sentence = answer(words, deal=first, amount=worth, days=days)
    else:
        sentence = answer(
            "{deals} worth {amount} have been without contact for longer than their interval; the largest is {deal}, {days}.",
            deals=many(len(deals), "open deal", "own"),
            amount=worth,
            deal=first,
            days=days,
        )
    terms = (("amounts", money_of(int(amount.sum()))),)
    kind = KINDS["silent"]
    yield Finding(kind, Subject("scope"), sentence, int(amount.sum()), terms, kind.changeable, tuple(deals.tolist()))


def leads_waiting(question: Question) -> Iterator[Finding]:
    """New leads that waited longer than the limit for a first contact; at stake: their number × what a lead brought in a year."""
    late = [lead for lead in question.around.waiting if lead.days > question.bounds.lead_days]
    if not late:
        return
    each = won_per_lead(question)
    oldest = max(late, key=lambda lead: lead.days)
    limit = many(int(question.bounds.lead_days), "day")
    sentence = answer(
        "{leads} {verb} longer than {limit} for a first contact, the oldest for {days}.",
        leads=many(len(late), "new lead", "waiting"),
        verb=named("has waited" if len(late) == 1 else "have waited"),
        limit=limit,
        days=many(int(oldest.days), "day", "waiting"),
    )
    terms = (("leads", Part(len(late), "number")), ("× won for each lead", money_of(each)))
    kind = KINDS["leads_waiting"]
    owners = {lead.owner for lead in late}
    whose = owners.pop() if len(owners) == 1 else NONE
    yield Finding(kind, Subject("scope"), sentence, len(late) * each, terms, kind.changeable, (), whose)
