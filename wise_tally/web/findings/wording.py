"""Findings in words: sentences with links, whose matter each is, the money and how it is worked out, the action proposed."""

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from django.db.models import Q
from django.utils.safestring import SafeString

from wise_tally.core.answers.answer import Answer
from wise_tally.core.findings.finding import FAMILIES, Finding
from wise_tally.core.findings.question import Question
from wise_tally.core.trees import NONE
from wise_tally.domain.deals.models import Account, Activity
from wise_tally.domain.formats import as_words, day, money
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.models import AgreedAction
from wise_tally.web.answers import Names, answer_sentence, plain, words_of
from wise_tally.web.deal_rows import DealRow, deal_rows, names_of
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.findings.links import IN_PLACE, action_of, opens


@dataclass(frozen=True)
class Shown:
    """A finding as a page shows it. `deal` is the identifier of its only deal, with its name, its revision and whether the viewer may
    change it; `in_place` is what can be done on the spot, with its words; `agreed` what was agreed about it and is not done yet,
    or is planned about its deal.
    """

    finding: Finding
    sentence: SafeString
    text: str
    whose: str
    whose_key: str
    action: str
    href: str
    own: str
    deal: str
    deal_name: str
    revision: int
    may_change: bool
    in_place: tuple[str, str] | None
    agreed: tuple[str, ...]

    @property
    def family(self) -> str:
        """The family in words."""
        return FAMILIES[self.finding.kind.family]

    @property
    def key(self) -> str:
        """The finding's identifier."""
        return self.finding.key


def shown(
    line: FilterLine, question: Question, findings: Sequence[Finding], viewer: Viewer | None = None
) -> list[Shown]:
    """Findings ready to be shown, names read for all of them at once; only a viewer is offered what can be done in place."""
    names = names_in(line, findings)
    deals = [finding.deals[0] for finding in findings if finding.subject.about == "deal"]
    rows = deal_rows(line, np.searchsorted(line.snapshot.deal, deals).tolist(), viewer) if viewer else {}
    of_deal = {row.key: row for row in rows.values()}
    agreed = agreed_about(line, [finding.key for finding in findings], viewer) if viewer else {}
    planned = planned_about(list(of_deal)) if not line.is_past else {}
    ready = []
    for finding in findings:
        notes = (*agreed.get(finding.key, ()), *planned.get(finding.subject.key, ()))
        ready.append(_shown(line, question, finding, (names, of_deal.get(finding.subject.key), notes)))
    return ready


def agreed_about(line: FilterLine, findings: Sequence[str], viewer: Viewer) -> dict[str, tuple[str, ...]]:
    """What was agreed about findings and is not done by the end of the day, in words, for those who meet and for the person."""
    not_done = Q(done_on=None) | Q(done_on__gt=line.as_of)
    actions = AgreedAction.objects.filter(not_done, finding__in=findings, agreed_on__lte=line.as_of)
    if not viewer.may(May.SET_RULES):
        actions = actions.filter(person_key=viewer.key)
    people = {person.key: person.name for person in line.book.reference.people}
    agreed: dict[str, tuple[str, ...]] = {}
    for one in actions.order_by("agreed_on"):
        due = f", due {day(one.due_on)}" if one.due_on else ""
        words = f"Agreed on {day(one.agreed_on)} with {people.get(one.person_key, one.person_key)}: {one.text}{due}"
        agreed[one.finding] = (*agreed.get(one.finding, ()), words)
    return agreed


def names_in(line: FilterLine, findings: Iterable[Finding]) -> Names:
    """The names of the deals and customers in the sentences."""
    sentences = [one.sentence for finding in findings for one in (finding, *finding.also)]
    parts = [part for sentence in sentences for part in sentence.parts.values()]
    deals = sorted({int(part.value) for part in parts if part.kind == "deal"})
    customers = {int(part.value) for part in parts if part.kind == "customer"}
    keys = {deal: line.book.deals.key[deal] for deal in deals}
    of_deals = names_of(line.book, deals)
    named: dict[tuple[str, int], str] = {("deal", deal): of_deals.get(key, key) for deal, key in keys.items()}
    of_customers = Account.objects.filter(pk__in=customers).values_list("pk", "name")
    return named | {("customer", number): name for number, name in of_customers}


def planned_about(keys: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """What is planned about a few deals (identifiers), in words: nobody plans the same call twice."""
    planned: dict[str, tuple[str, ...]] = {}
    rows = Activity.objects.filter(status="planned", deal__key__in=keys).order_by("at").select_related("deal")
    for row in rows:
        assert row.deal is not None, "asked for by deal"
        words = f"Planned for {day(row.at)}: {as_words(row.kind).lower()}, {row.subject}"
        planned[row.deal.key] = (*planned.get(row.deal.key, ()), words)
    return planned


def _shown(
    line: FilterLine, question: Question, finding: Finding, read: tuple[Names, DealRow | None, tuple[str, ...]]
) -> Shown:
    names, deal, agreed = read
    addresses = opens(line, question, finding)
    action, href = action_of(line, finding, addresses)
    sentence = with_more(finding, names)
    whose = finding.whose
    people = line.book.reference.people
    return Shown(
        finding,
        answer_sentence(sentence, addresses, names),
        plain(sentence, names),
        _whose(line, finding),
        "" if whose == NONE else people[whose].key,
        action,
        href,
        addresses["own"],
        deal.key if deal else "",
        deal.name if deal else "",
        deal.revision if deal else 0,
        deal is not None and deal.may_change,
        (finding.kind.action, IN_PLACE[finding.kind.action]) if deal else None,
        agreed,
    )


def _whose(line: FilterLine, finding: Finding) -> str:
    """Whose matter a finding is: a person or a team; empty for the whole scope."""
    reference = line.book.reference
    if finding.whose != NONE:
        return reference.people[finding.whose].name
    return reference.teams[finding.subject.index].name if finding.subject.about == "team" else ""


# How many further findings join the sentence of a deal or person, as long as it fits two lines.
MOST_ALSO = {"deal": 2, "person": 1}
TWO_LINES = 185


def with_more(finding: Finding, names: Names) -> Answer:
    """The sentence of a deal or person with its further findings as clauses without a subject, at most two lines."""
    further = [one for one in finding.also if one.kind.key != "decides"][: MOST_ALSO.get(finding.subject.about, 0)]
    for number in range(len(further), 0, -1):
        longer = _joined(finding, further[:number])
        if len(plain(longer, names)) <= TWO_LINES:
            return longer
    return finding.sentence


def _joined(finding: Finding, further: Sequence[Finding]) -> Answer:
    sentence, parts = finding.sentence.sentence.removesuffix("."), dict(finding.sentence.parts)
    clauses = []
    for number, more in enumerate(further):
        clause = more.sentence.sentence.removeprefix("{deal} ").removeprefix("{who} ").removesuffix(".")
        for name, part in more.sentence.parts.items():
            clause = clause.replace(f"{{{name}}}", f"{{{name}{number}}}")
            parts[f"{name}{number}"] = part
        clauses.append(clause)
    if finding.kind.key == "decides":
        return Answer(f"{sentence}. It {' and '.join(clauses)}.", parts)
    if finding.subject.about == "person":
        return Answer(f"{sentence}; also {clauses[0]}.", parts)
    joined = " and ".join([f"{sentence}, {clauses[0]}" if len(clauses) > 1 else sentence, clauses[-1]])
    return Answer(f"{joined}.", parts)


def terms_of(finding: Finding, names: Names | None = None) -> list[tuple[str, str]]:
    """How the money at stake is worked out, in words with their values."""
    return [
        (words, money(int(part.value)) if part.kind == "money" else words_of(part, names))
        for words, part in finding.terms
    ]


def as_text(line: FilterLine, findings: Sequence[Shown], figures: Iterable[tuple[str, str, str]]) -> str:
    """A brief as the JSON in which it is saved."""
    points = [
        {
            "finding": finding.key,
            "kind": finding.finding.kind.key,
            "words": finding.text,
            "amount_minor": finding.finding.money_minor,
            "whose": finding.whose,
            "about": finding.finding.subject.about,
            "subject": finding.finding.subject.key,
            "deals": [line.book.deals.key[deal] for deal in finding.finding.deals[:20]],
        }
        for finding in findings
    ]
    content = {"figures": [list(figure) for figure in figures], "findings": points}
    return json.dumps(content, ensure_ascii=False)
