"""Findings about reps: unlikely commit, forecasts off the outcome, deals left standing, activities below target."""

from collections.abc import Iterator, Sequence
from dataclasses import replace

import numpy as np

from wise_tally.core.activity import METRIC, OWN_DOING, activity_attainment
from wise_tally.core.answers.answer import Part, answer, many, named
from wise_tally.core.attainment import AttainmentRow
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.calls import calls_in_force
from wise_tally.core.derived import Grows, derived
from wise_tally.core.differences import differences_of_rates
from wise_tally.core.findings.finding import KINDS, Finding, Kind, Subject
from wise_tally.core.findings.of_deals import claims
from wise_tally.core.findings.question import YEAR_DAYS, Question, money_of
from wise_tally.core.forecast_accuracy import RecordsTogether, RepRecord, rep_records
from wise_tally.core.lines import Filter
from wise_tally.core.money import Ints
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.core.targets import PLAIN, quota_table
from wise_tally.core.time_in_stage import stay_lines
from wise_tally.core.trees import NONE

# Fewer deals of a rep in a stage do not show a habit.
LEAST_STANDING = 3
LEAST_CLAIMS = 2
# So many reps are named.
NAMED = 3
ACTIVITY_WORDS = {
    "": "activities",
    "phone": "phone calls",
    "meeting": "meetings",
    "mail": "e-mails",
    "site_visit": "site visits",
    "task": "tasks",
}


def _of_person(kind: Kind, question: Question, person: int, content: tuple, deals: Sequence[int] = ()) -> Finding:  # type: ignore[type-arg]
    sentence, minor, terms = content
    subject = Subject("person", question.book.reference.people[person].key, person)
    return Finding(kind, subject, sentence, minor, terms, kind.changeable, tuple(deals), person)


def _name(question: Question, person: int) -> Part:
    return named(question.book.reference.people[person].name, "row")


def unlikely(question: Question) -> Iterator[Finding]:
    """Reps with at least two deals in the two surest categories whose chance lies below what those claim; a single one is its own finding.

    At stake: their amounts less what they bring by chance. Only by the outlook. Source: own definition.
    """
    owner, amount, chance = (
        question.snapshot.owner[question.open.rows],
        question.open.amount_minor,
        question.open.chance,
    )
    claiming = claims(question)
    for person, number in zip(*(one.tolist() for one in np.unique(owner[claiming], return_counts=True)), strict=True):
        if number < LEAST_CLAIMS:
            continue
        mine = claiming & (owner == person)
        face, brings = int(amount[mine].sum()), round(float((amount[mine] * chance[mine]).sum()))
        sentence = answer(
            "{who} has {deals} in commit or best case that look unlikely going by past deals: of {face}, {brings} is likely to be won.",
            who=_name(question, person),
            deals=many(number, "deal", "own"),
            face=money_of(face, "own"),
            brings=money_of(brings, "own"),
        )
        terms = (("amounts", money_of(face)), ("− by chance", money_of(brings)))
        yield _of_person(
            KINDS["unlikely"], question, person, (sentence, face - brings, terms), question.open.deal[mine].tolist()
        )


def past_periods(question: Question, number: int) -> list[Period]:
    """The last periods of the period's kind that are over on the day, the latest first."""
    fiscal, kind = question.book.reference.fiscal, question.period.kind
    present = fiscal.containing(question.snapshot.as_of, kind if kind in ("month", "quarter", "year") else "quarter")
    return [fiscal.shifted(present, -step) for step in range(1, number + 1)]


def calls_off(question: Question) -> Iterator[Finding]:
    """Reps whose own forecasts at mid-period lay on one side of what was won, each by at least the bound, period after period.

    At stake: what they submitted for this period (else for the last) × the error. Source: common practice.
    """
    number = int(question.bounds.calls_periods)
    periods = past_periods(question, number)
    tables = [rep_records(question.book, question.snapshot, period, question.scope) for period in periods]
    calls = calls_in_force(question.book.reference, question.snapshot.as_of, question.period)
    for person in sorted(set.intersection(*(set(table) for table in tables))):
        records = [table[person] for table in tables]
        if not _one_sided(records, question.bounds.calls_error):
            continue
        together = RecordsTogether(tuple(records))
        error = together.call_error
        assert error is not None, "every record has a call, and something was won"
        now = calls.get(("person", person))
        submitted = now.amount_minor if now else (records[0].submitted or 0)
        minor = round(abs(submitted * error / (1 + error)))
        words = "above" if error > 0 else "below"
        sentence = answer(
            f"{{who}} submitted forecasts {words} what was won in each of the last {{periods}}, by {{error}} in all.",
            who=_name(question, person),
            periods=many(number, periods[0].kind),
            error=Part(abs(error), "rate", "own"),
        )
        each = tuple(
            (f"{record.period.text}, submitted − won", money_of((record.submitted or 0) - record.won))
            for record in records
        )
        terms = (
            *each,
            ("submitted last", money_of(submitted)),
            ("× error ÷ (1 + error)", Part(abs(error / (1 + error)), "rate")),
        )
        yield _of_person(KINDS["calls_off"], question, person, (sentence, minor, terms))


def _one_sided(records: Sequence[RepRecord], least: float) -> bool:
    shares = [
        (record.submitted - record.won) / record.won
        for record in records
        if record.submitted is not None and record.won > 0
    ]
    return len(shares) == len(records) and (min(shares) >= least or max(shares) <= -least)


def stays_long(question: Question) -> Iterator[Finding]:
    """A rep of whose stays in a stage, entered in two years, a larger share went past its typical days than of others', by more than
    chance explains among all that are compared, and by at least the bound.

    At stake: the amounts of the rep's open deals in the stage. The interval of the difference of two shares is Newcombe's.
    """
    selection = (
        question.book,
        question.snapshot,
        question.last_days(2 * YEAR_DAYS),
        replace(question.scope, person=NONE, team=NONE),
    )
    number, late = stays_past_typical(*selection)
    typical = _typical_days(question.book, question.snapshot)
    stage, person = np.nonzero(late >= LEAST_STANDING)
    own = late[stage, person], number[stage, person]
    others = late.sum(axis=1)[stage] - own[0], number.sum(axis=1)[stage] - own[1]
    low, _ = differences_of_rates(own, others, len(stage))
    apart = own[0] / own[1] - others[0] / np.maximum(others[1], 1)
    mine = np.isin(person, np.unique(question.snapshot.owner[question.of_owner]))
    for index in np.flatnonzero(mine & (low > 0) & (apart >= question.bounds.stays_points)).tolist():
        pairs = [(int(late_ones[index]), int(all_ones[index])) for late_ones, all_ones in (own, others)]
        yield _stays_finding(
            question, int(person[index]), int(stage[index]), (pairs[0], pairs[1], float(typical[stage[index]]))
        )


@derived(Grows.CARRIED)
def stays_past_typical(book: Book, snapshot: BookAsOf, period: Period, scope: Filter) -> tuple[Ints, Ints]:
    """Stays of everybody entered in a period and those of them past the typical days of their stage, shapes (stages, people)."""
    people, stays = len(book.reference.people), stay_lines(book, snapshot, period, scope)
    typical = _typical_days(book, snapshot)
    limit = np.where(np.isnan(typical), np.inf, typical * DAY_SECONDS)
    past = stays.in_window & (stays.seconds > limit[stays.stage])
    code, size = stays.stage * people + stays.owner, len(limit) * people
    number, late = (np.bincount(code[keep], minlength=size).reshape(-1, people) for keep in (stays.in_window, past))
    return number, late


def _typical_days(book: Book, snapshot: BookAsOf) -> Floats:
    """The typical days of each stage, NaN for none."""
    rules = book.reference.rules_on(snapshot.as_of)
    return np.array([np.nan if rule.typical_days is None else rule.typical_days for rule in rules])


def _stays_finding(
    question: Question, person: int, stage: int, shares: tuple[tuple[int, int], tuple[int, int], float]
) -> Finding:
    (late, number), others, typical = shares
    rows = question.open.rows
    inside = (question.snapshot.stage[rows] == stage) & (question.snapshot.owner[rows] == person)
    amount = int(question.open.amount_minor[inside].sum())
    sentence = answer(
        "{who}’s deals stall in {stage}: {late} of {all} in two years for longer than {typical}, against {share} with other reps.",
        who=_name(question, person),
        stage=named(question.book.reference.stages[stage].name),
        late=Part(late, "number", "own"),
        all=many(number, "time", "own"),
        typical=many(int(typical), "day"),
        share=Part(others[0] / others[1], "rate", "own"),
    )
    terms = (("open deals in the stage", money_of(amount)),)
    return _of_person(
        KINDS["stays_long"], question, person, (sentence, amount, terms), question.open.deal[inside].tolist()
    )


def activity_below(question: Question) -> Iterator[Finding]:
    """Reps who did less of the month's activities of a kind than the bound's share of the target to date, each at the kind furthest behind.

    At stake: the missing share × what their open deals bring by chance. Own choice.
    """
    month = question.book.reference.fiscal.containing(question.snapshot.as_of, "month")
    worst: dict[int, tuple[float, str, AttainmentRow]] = {}
    for kind in ("", *OWN_DOING):
        if not len(quota_table(question.book.reference, METRIC, (*PLAIN[:3], kind)).subject):
            continue
        done = question.around.done.of_kind(kind)
        for row in activity_attainment(question.book, question.snapshot, month, question.scope, "person", done):
            share, person = row.to_date, row.forecast.node
            if person == NONE or share is None or share >= question.bounds.activity_share:
                continue
            if person not in worst or share < worst[person][0]:
                worst[person] = (share, kind, row)
    owner = question.snapshot.owner[question.open.rows]
    for person, (share, kind, row) in worst.items():
        mine = owner == person
        brings = round(float((question.open.amount_minor[mine] * question.open.chance[mine]).sum()))
        sentence = answer(
            "{who} is at {done} {kind} this month, {share} of the target to date.",
            who=_name(question, person),
            done=Part(row.forecast.won, "times", f"done@{kind}"),
            share=Part(share, "rate", f"to_date@{kind}"),
            kind=named(ACTIVITY_WORDS[kind]),
        )
        terms = (("open deals by chance", money_of(brings)), ("× missing share", Part(1 - share, "rate")))
        yield _of_person(KINDS["activity_below"], question, person, (sentence, round(brings * (1 - share)), terms))


def not_submitted(question: Question) -> Iterator[Finding]:
    """Reps of the scope with open deals of the period who submitted no forecast for it, where somebody of the firm did.

    At stake: what their open deals bring by chance.
    """
    if not question.span.days_left:
        return
    calls = calls_in_force(question.book.reference, question.snapshot.as_of, question.period)
    submitted_by = {person for subject, person in calls if subject == "person"}
    owner, brings = question.snapshot.owner[question.open.rows], question.open.amount_minor * question.open.chance
    silent = sorted(set(owner[question.open.chance > 0].tolist()) - submitted_by - set(question.around.left.tolist()))
    if not submitted_by or not silent:
        return
    mine = np.isin(owner, silent)
    minor = round(float(brings[mine].sum()))
    people = question.book.reference.people
    names = [people[person].name for person in sorted(silent, key=lambda one: -brings[owner == one].sum())]
    listed = ", ".join(names[:NAMED]) + (f" and {len(names) - NAMED} more" if len(names) > NAMED else "")
    sentence = answer(
        f"{{who}} {'has' if len(silent) == 1 else 'have'} submitted no forecast for the {question.span.word} yet, "
        "with {open} likely to come from their open deals.",
        who=named(listed, "calls"),
        open=money_of(minor, "own"),
    )
    kind, terms = KINDS["not_submitted"], (("open deals by chance", money_of(minor)),)
    subject = Subject("person", people[silent[0]].key, silent[0]) if len(silent) == 1 else Subject("scope")
    deals, whose = tuple(question.open.deal[mine].tolist()), silent[0] if len(silent) == 1 else NONE
    yield Finding(kind, subject, sentence, minor, terms, kind.changeable, deals, whose)
