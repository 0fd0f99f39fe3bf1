"""All findings of a question in the order of what they are worth, and the few that a brief shows."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from wise_tally.core.findings.finding import Finding, Subject
from wise_tally.core.findings.of_customers import leads_waiting, owes, sales_fall, silent
from wise_tally.core.findings.of_data import (
    no_amount,
    no_owner,
    overdue_deals,
    target_parts,
    twins,
    undated_deals,
)
from wise_tally.core.findings.of_deals import at_risk, decides, likely
from wise_tally.core.findings.of_forecast import ahead, forecast_gap, will_miss
from wise_tally.core.findings.of_people import activity_below, calls_off, not_submitted, stays_long, unlikely
from wise_tally.core.findings.of_process import (
    days_to_win,
    deal_size,
    fewer_deals,
    fewer_leads,
    losses,
    stage_off,
    win_rate,
)
from wise_tally.core.findings.question import Question

RULES: tuple[Callable[[Question], Iterator[Finding]], ...] = (
    forecast_gap,
    will_miss,
    ahead,
    decides,
    at_risk,
    likely,
    unlikely,
    calls_off,
    stays_long,
    activity_below,
    not_submitted,
    stage_off,
    win_rate,
    deal_size,
    days_to_win,
    losses,
    fewer_deals,
    fewer_leads,
    leads_waiting,
    owes,
    sales_fall,
    silent,
    undated_deals,
    overdue_deals,
    no_amount,
    no_owner,
    twins,
    target_parts,
)
MOST = 8
# How many lines of a brief are each family's; what one leaves free goes to the next best of any.
PLACES = {"forecast": 2, "deals": 2, "people": 2, "process": 1, "customers": 1, "data": 0}


def findings(question: Question) -> tuple[Finding, ...]:
    """All findings, the most money that can still be changed first; equal ones by kind and subject."""
    every = [finding for rule in RULES for finding in rule(question)]
    return tuple(sorted(every, key=lambda one: (-one.score, one.key)))


def brief_of(every: Sequence[Finding], most: int = MOST) -> tuple[Finding, ...]:
    """The findings of a brief: of each family the best, as many as it has places, then the next best of any; one of a kind and subject.

    Further findings of a deal or a person join its first one. The findings given are ranked; so are those returned.
    """
    chosen: list[Finding] = []
    for finding in every:
        taken = sum(one.kind.family == finding.kind.family for one in chosen)
        if len(chosen) < most and taken < PLACES[finding.kind.family] and _is_new(finding, chosen):
            chosen.append(finding)
    for finding in every:
        if len(chosen) < most and _is_new(finding, chosen):
            chosen.append(finding)
    clauses = _clauses(every)
    complete = [_with_more(finding, clauses) for finding in chosen]
    return tuple(sorted(complete, key=lambda one: (-one.score, one.key)))


def together(every: Sequence[Finding]) -> tuple[Finding, ...]:
    """The findings with those of one deal in one: its first, joined by the others."""
    subjects: set[str] = set()
    joined, clauses = [], _clauses(every)
    for finding in every:
        if finding.subject.about == "deal":
            if finding.subject.key in subjects:
                continue
            subjects.add(finding.subject.key)
            finding = _with_more(finding, clauses)  # noqa: PLW2901 - the same finding, with more
        joined.append(finding)
    return tuple(joined)


def _is_new(finding: Finding, chosen: Iterable[Finding]) -> bool:
    """Whether no finding of the kind or about the same deal, person or customer was chosen yet."""
    return not any(
        one.kind == finding.kind or (one.subject == finding.subject and finding.subject.about not in ("scope", "data"))
        for one in chosen
    )


def _is_clause(finding: Finding) -> bool:
    """Whether a sentence begins with its subject, so that the rest of it can follow another."""
    return finding.sentence.sentence.startswith(("{deal} ", "{who} "))


def _clauses(every: Iterable[Finding]) -> dict[Subject, list[Finding]]:
    """By deal or person the findings whose sentences can follow another."""
    clauses: dict[Subject, list[Finding]] = {}
    for one in every:
        if one.subject.about in ("deal", "person") and _is_clause(one):
            clauses.setdefault(one.subject, []).append(one)
    return clauses


def _with_more(finding: Finding, clauses: Mapping[Subject, Sequence[Finding]]) -> Finding:
    """A finding of a deal or a person, joined by the others about the same."""
    if finding.subject.about not in ("deal", "person"):
        return finding
    return replace(finding, also=tuple(one for one in clauses.get(finding.subject, ()) if one.key != finding.key))
