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
    customers, of = question.beside.customers, question.beside.customer[question.open.deal]
    if not len(customers.number):
        return np.full(len(of), NONE), np.zeros(0, dtype=np.int64)
    place = np.minimum(np.searchsorted(customers.number, of), len(customers.number) - 1)
    place = np.where(customers.number[place] == of, place, NONE)
    known = place != NONE
    return place, sum_by_group(question.open.amount_minor[known], place[known], len(customers.number))


def _of_customer(
    question: Question, kind: Kind, place: int, said: tuple[Answer, int, tuple[tuple[str, Part], ...]], deals: Ints
) -> Finding:
    sentence, minor, terms = said
    customers = question.beside.customers
    subject = Subject("customer", customers.key[place], int(customers.number[place]))
    whose = NONE
    if len(deals):
        whose = int(question.snapshot.owner[np.searchsorted(question.snapshot.deal, deals[0])])
    return Finding(kind, subject, sentence, minor, terms, kind.changeable, tuple(deals.tolist()), whose)


def _name(question: Question, place: int) -> Part:
    return Part(int(question.beside.customers.number[place]), "customer", "customer")


def owes(question: Question) -> Iterator[Finding]:
    """Customers who owe a share of their open deals for longer than the bounds, falling sales said with it. At stake: the open deals."""
    customers = question.beside.customers
    of, open_minor = _open_by_customer(question)
    late = (customers.owed_since > 0) & (question.today - customers.owed_since >= question.bounds.owed_days)
    large = (open_minor > 0) & (customers.owed_minor >= question.bounds.owed_share * open_minor)
    for place in np.flatnonzero(late & large).tolist():
        deals = question.open.deal[of == place]
        owed, since = int(customers.owed_minor[place]), int(customers.owed_since[place])
        now, before = int(customers.sales_minor[place]), int(customers.sales_before_minor[place])
        told = "{who} owes {owed}, {days} overdue, and has {deals} worth {open}"
        falls = before > 0 and 1 - now / before >= question.bounds.sales_fall
        said = answer(
            f"{told}; its sales fell by {{fall}}." if falls else f"{told}.",
            who=_name(question, place),
            owed=money_of(owed, "customer"),
            days=many(question.today - since, "day", "own"),
            deals=many(len(deals), "open deal", "own"),
            open=money_of(int(open_minor[place]), "own"),
            **({"fall": Part(1 - now / before, "rate", "own")} if falls else {}),
        )
        terms: tuple[tuple[str, Part], ...] = (
            ("open deals", money_of(int(open_minor[place]))),
            ("the oldest invoice was due on", day_part(since)),
        )
        if falls:
            terms = (*terms, ("sales of twelve months", money_of(now)), ("of the twelve before", money_of(before)))
        yield _of_customer(question, KINDS["owes"], place, (said, int(open_minor[place]), terms), deals)


def sales_fall(question: Question) -> Iterator[Finding]:
    """Customers whose sales of twelve months fell by at least the bound, and whose invoices became rarer by more than chance explains.

    At stake: by how much they fell. Amounts alone fall and rise by chance; the interval is of the ratio of two frequencies.
    """
    customers = question.beside.customers
    before, fell = customers.sales_before_minor, customers.sales_before_minor - customers.sales_minor
    chosen = (before > 0) & (fell >= question.bounds.sales_fall * before)
    for place in np.flatnonzero(chosen).tolist():
        counts = int(customers.invoices[place]), int(customers.invoices_before[place])
        ratio = ratio_of_frequencies((counts[0], 1.0), (counts[1], 1.0))
        chosen[place] = ratio is not None and ratio.high < 1
    of, _ = _open_by_customer(question)
    for place in np.flatnonzero(chosen).tolist():
        minor, was = int(fell[place]), int(before[place])
        said = answer(
            "{who} bought {now} in the last twelve months, {was} in the twelve before: {share} less.",
            who=_name(question, place),
            now=money_of(int(customers.sales_minor[place]), "own"),
            was=money_of(was, "own"),
            share=Part(minor / was, "rate", "own"),
        )
        terms = (("sales before", money_of(was)), ("− sales now", money_of(int(customers.sales_minor[place]))))
        yield _of_customer(question, KINDS["sales_fall"], place, (said, minor, terms), question.open.deal[of == place])


def silent(question: Question) -> Iterator[Finding]:
    """All open deals whose customers waited longer than their contact interval, in one finding; at stake are their amounts."""
    late = question.beside.missed[question.open.deal] > 0
    if not late.any():
        return
    deals, amount = question.open.deal[late], question.open.amount_minor[late]
    days = many(int(question.beside.silent_days[deals[0]]), "day")
    first, worth = Part(int(deals[0]), "deal", "deal"), money_of(int(amount.sum()), "own")
    if len(deals) == 1:
        words = "{deal}, worth {amount}, has been without contact for {days}, longer than its contact interval."
        said = answer(words, deal=first, amount=worth, days=days)
    else:
        said = answer(
            "{deals} worth {amount} have been without contact for longer than their interval; the largest is {deal}, {days}.",
            deals=many(len(deals), "open deal", "own"),
            amount=worth,
            deal=first,
            days=days,
        )
    terms = (("amounts", money_of(int(amount.sum()))),)
    kind = KINDS["silent"]
    yield Finding(kind, Subject("scope"), said, int(amount.sum()), terms, kind.changeable, tuple(deals.tolist()))


def leads_waiting(question: Question) -> Iterator[Finding]:
    """New leads that waited longer than the limit for a first contact; at stake: their number × what a lead brought in a year."""
    late = [lead for lead in question.beside.waiting if lead.days > question.bounds.lead_days]
    if not late:
        return
    each = won_per_lead(question)
    oldest = max(late, key=lambda lead: lead.days)
    limit = many(int(question.bounds.lead_days), "day")
    said = answer(
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
    yield Finding(kind, Subject("scope"), said, len(late) * each, terms, kind.changeable, (), whose)
