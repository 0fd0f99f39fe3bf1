"""Findings about the forecast: the period against its quota, who will miss, who is ahead."""

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import date

from wise_tally.core.answers.answer import Answer, Part, answer, many, named
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.bridge import CAUSE_WORDS, bridge
from wise_tally.core.calendar import Period
from wise_tally.core.derived import Grown, Grows, derived
from wise_tally.core.findings.finding import KINDS, Finding, Subject
from wise_tally.core.findings.question import Question, day_part, deal_part, money_of
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.lines import Filter
from wise_tally.core.outlook.expected import CHANCE, MEAN, OUTLOOK, Expected, expected
from wise_tally.core.outlook.rows import outlook_rows
from wise_tally.core.trees import NONE
from wise_tally.core.what_changed import changes

# Of so many rows with the largest shortfall the chance of quota is worked out.
MOST_ASKED = 8
MOST_MOVED = 40
CLEARLY_AHEAD = 1.1


def own_row(question: Question) -> ForecastRow:
    """The forecast of the whole scope."""
    rows = forecast(question.book, question.snapshot, question.period, question.scope, question.by)
    return next(row for row in rows if row.node == question.node)


def expected_of(question: Question, quota: int | None, most: int = 0) -> Expected:
    """What the scope is expected to bring in the way that leads, with the deals that matter most."""
    selection = (question.book, question.snapshot, question.period, question.scope, question.by)
    return expected(*selection, question.way, quota, most)


def forecast_gap(question: Question) -> Iterator[Finding]:
    """The likely outcome against quota, with what moved the weighted forecast since the day compared with.

    At stake: what is likely to be short of quota, else what moved. Nothing is found without a quota, or once the period is over.
    """
    quota = own_row(question).quota
    if not quota or not question.span.days_left:
        return
    likely = expected_of(question, quota)
    gap = quota - likely.mean_minor
    parts = {
        "likely": money_of(likely.mean_minor, MEAN[question.way]),
        "gap": money_of(abs(gap), "own"),
    }
    side = "short of" if gap > 0 else "above"
    words = f"The {question.span.word} is likely to bring {{likely}}, {{gap}} {side} quota"
    more, moved, deals, moved_minor = _what_moved(question)
    if gap <= 0 and not moved_minor:
        return
    terms: tuple[tuple[str, Part], ...] = (
        ("quota", money_of(quota)),
        ("− likely to be won", money_of(likely.mean_minor)),
    )
    if gap <= 0:
        terms = (("moved since the day compared with", money_of(moved_minor)),)
    kind, minor = KINDS["forecast_gap"], gap if gap > 0 else abs(moved_minor)
    yield Finding(
        kind, _whole(question), Answer(f"{words}{more}.", parts | moved), minor, terms, kind.changeable, deals
    )


def _whole(question: Question) -> Subject:
    reference = question.book.reference
    if question.by == "person":
        return Subject("person", reference.people[question.node].key, question.node)
    if question.by == "team":
        return Subject("team", reference.teams[question.node].key, question.node)
    return Subject("scope")


def _of_the_past(cause: str, grown: Grown, on: date, *_: object) -> str | None:
    # A day after the snapshot's own can have changed with what left the snapshot as it was.
    return cause if grown.growth.same_base and on <= grown.new.as_of else None


@derived(_of_the_past)
def largest_cause(book: Book, snapshot: BookAsOf, on: date, period: Period, scope: Filter) -> str:
    """The cause that moved the weighted forecast most since the evening of a day."""
    rows = bridge(book, book.as_of(on), snapshot, period, scope)[1:-1]
    return max(rows, key=lambda row: abs(row.amount_minor)).cause


def _what_moved(question: Question) -> tuple[str, dict[str, Part], tuple[int, ...], int]:
    """The weighted forecast's change since the earlier day with its largest cause and deal, as the end of a sentence."""
    selection = (question.book, question.earlier, question.snapshot, question.period, question.scope)
    moves = changes(*selection, "weighted")
    if not moves.moved:
        return "", {}, (), 0
    largest = moves.moved[0]
    parts = {
        "moved": Part(abs(moves.change_minor), figure="changed"),
        "since": day_part(question.earlier.as_of.toordinal()),
        "most": Part(largest.change_minor, "points"),
        "deal": deal_part(largest.deal),
    }
    cause = largest_cause(question.book, question.snapshot, question.earlier.as_of, question.period, question.scope)
    words = "down" if moves.change_minor < 0 else "up"
    more = f"; weighted is {words} {{moved}} since {{since}}, mostly “{CAUSE_WORDS[cause]}” ({{deal}} {{most}})"
    return more, parts, tuple(one.deal for one in moves.moved[:MOST_MOVED]), moves.change_minor


@derived(Grows.CARRIED)
def likely_rows(
    book: Book, snapshot: BookAsOf, period: Period, scope: Filter, by: str, way: str
) -> tuple[tuple[ForecastRow, int], ...]:
    """Rows with a quota and what each is likely to win."""
    by_outlook = outlook_rows(book, snapshot, period, scope, by) if way == OUTLOOK else {}
    return tuple(
        (row, by_outlook[row.node].mean if row.node in by_outlook else row.weighted)
        for row in forecast(book, snapshot, period, scope, by)
        if row.quota and row.node != NONE
    )


def _likely_rows(question: Question, by: str) -> list[tuple[ForecastRow, int]]:
    return list(likely_rows(question.book, question.snapshot, question.period, question.scope, by, question.way))


def will_miss(question: Question) -> Iterator[Finding]:
    """Reps and teams whose chance of quota lies below the bound; at stake is what they are likely to fall short by.

    Teams are looked at where several stand in the scope. A row is asked for its chance only among the largest shortfalls.
    """
    if not question.span.days_left or question.by == "person":
        return
    for by in ("person", "team"):
        rows = [one for one in _likely_rows(question, by) if one[1] < (one[0].quota or 0)]
        rows = [one for one in rows if by == "person" or not (question.by == "team" and one[0].node == question.node)]
        rows.sort(key=lambda one: one[1] - (one[0].quota or 0))
        yield from _missing(question, by, rows[:MOST_ASKED])


def _missing(question: Question, by: str, rows: Iterable[tuple[ForecastRow, int]]) -> Iterator[Finding]:
    for row, likely in rows:
        quota = row.quota or 0
        chance = _chance_of_row(question, by, row)
        if chance is None or chance >= question.bounds.miss_chance:
            continue
        reference = question.book.reference
        named_row = reference.people[row.node] if by == "person" else reference.teams[row.node]
        sentence = answer(
            f"{{who}} is likely to win {{likely}} of {{quota}} this {question.span.word}, with {{won}} won so far: "
            "the chance of quota is {chance}.",
            who=named(named_row.name, "row"),
            likely=money_of(likely, f"{MEAN[question.way]}@row"),
            quota=money_of(quota, "quota@row"),
            chance=Part(chance, "rate", f"{CHANCE[question.way]}@row"),
            won=money_of(row.won, "won@row"),
        )
        terms = (("quota", money_of(quota)), ("− likely to be won", money_of(likely)))
        subject = Subject("person" if by == "person" else "team", named_row.key, row.node)
        whose = row.node if by == "person" else NONE
        deals = _open_of(question, row.node) if by == "person" else ()
        kind = KINDS["will_miss"]
        yield Finding(kind, subject, sentence, quota - likely, terms, kind.changeable, deals, whose)


def _open_of(question: Question, person: int) -> tuple[int, ...]:
    """The open deals owned by a person, the largest first."""
    own = question.snapshot.owner[question.open.rows] == person
    return tuple(question.open.deal[own].tolist())


def _chance_of_row(question: Question, by: str, row: ForecastRow) -> float | None:
    """The chance of one row's quota in the way that leads, by its own distribution."""
    narrowed = replace(question.scope, person=row.node) if by == "person" else replace(question.scope, team=row.node)
    outlook = expected(question.book, question.snapshot, question.period, narrowed, by, question.way, row.quota, 0)
    return outlook.outcome.chance_of(row.quota)


def ahead(question: Question) -> Iterator[Finding]:
    """Reps who are likely to bring at least a tenth more than their quota; at stake what they bring above it."""
    if question.by == "person" or not question.span.days_left:
        return
    rows = [one for one in _likely_rows(question, "person") if one[1] >= CLEARLY_AHEAD * (one[0].quota or 0)]
    if not rows:
        return
    rows.sort(key=lambda one: -one[1] / (one[0].quota or 1))
    people, (best, likely) = question.book.reference.people, rows[0]
    above = sum(one[1] - (one[0].quota or 0) for one in rows)
    sentence = answer(
        "{reps} {verb} likely to pass quota, {who} by the most: {likely} of {quota}.",
        reps=many(len(rows), "rep", "own"),
        verb=named("is" if len(rows) == 1 else "are"),
        who=named(people[best.node].name, "row"),
        likely=money_of(likely, f"{MEAN[question.way]}@row"),
        quota=money_of(best.quota or 0, "quota@row"),
    )
    terms = tuple((people[row.node].name, money_of(mean - (row.quota or 0))) for row, mean in rows)
    subject = Subject("scope", people[best.node].key, best.node)
    yield Finding(KINDS["ahead"], subject, sentence, above, terms, KINDS["ahead"].changeable)
