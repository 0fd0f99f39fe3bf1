"""The back-test on the page of forecast accuracy: each method at past periods, what they came to, by period and by rep."""

from dataclasses import dataclass

from wise_tally.core.answers.outlook import back_test_answer
from wise_tally.core.backtest import CHECKPOINTS
from wise_tally.core.calendar import Period
from wise_tally.core.outlook.back_test import METHODS, SUBMITTED, RollingTest, Score, past_periods, rolling_test
from wise_tally.core.outlook.by_person import PersonScore, people_test
from wise_tally.core.outlook.verdict import PERIODS
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import as_words
from wise_tally.web.answers import answer_sentence
from wise_tally.web.files.tables import Sheet
from wise_tally.web.filter_line import FilterLine, period_words

METHOD_WORDS = {
    "weighted": "weighted",
    "actual": "weighted at actual win rates",
    SUBMITTED: "submitted",
    "run_rate": "won + run rate of the last year",
    "outlook": "outlook",
}
SHORT = {"weighted": "weighted", SUBMITTED: "submitted", "run_rate": "run rate", "outlook": "outlook"}
# In larger books it is computed when asked for.
MOST_DEALS_AT_ONCE = 20_000
MOST_PEOPLE = 60


@dataclass(frozen=True)
class MethodRow:
    """A method with its score over all looks, and its error at each place in the periods."""

    words: str
    score: Score
    errors: tuple[float | None, ...]


@dataclass(frozen=True)
class PeriodRow:
    """A past period, what was won in it in minor units, each method's score, and how many looks of the outlook held it."""

    words: str
    won_minor: int
    scores: tuple[Score, ...]
    within: int
    looks: int


@dataclass(frozen=True)
class BackTestShown:
    """What the section shows."""

    answer_sentence: str
    methods: tuple[MethodRow, ...]
    periods: tuple[PeriodRow, ...]
    people: tuple[tuple[str, PersonScore], ...]
    looks: int


def is_quick(line: FilterLine) -> bool:
    """Whether the book is small enough to test at once."""
    return len(line.book.deals.key) <= MOST_DEALS_AT_ONCE


def shows_people(line: FilterLine) -> bool:
    """Whether each rep's ranges, one distribution a rep and period, are few enough: a team's or a rep's, or a small firm's."""
    of_few = line.scope.team != NONE or line.scope.person != NONE
    return of_few or (is_quick(line) and len(line.book.reference.people) <= MOST_PEOPLE)


def back_test_of(line: FilterLine, kind: str) -> BackTestShown | None:
    """The last eight periods of a kind; None where fewer than two can be looked at."""
    periods = past_periods(line.book, line.as_of, kind, PERIODS)
    test = rolling_test(line.book, line.snapshot, periods, line.scope)
    if not test.enough:
        return None
    scores = {method: test.score(method) for method in METHOD_WORDS}
    errors = {method: scores[method].error for method in SHORT}
    tested = [period for period in periods if test.of_period(period).looks]
    sentence = back_test_answer({method: one for method, one in errors.items() if one is not None}, len(tested), kind)
    people = people_test(line.book, line.snapshot, tested, line.scope) if shows_people(line) else {}
    named = ((line.book.reference.people[person].name, score) for person, score in people.items())
    return BackTestShown(
        str(answer_sentence(sentence, {})),
        tuple(_method(test, method, scores[method]) for method in METHOD_WORDS if scores[method].error is not None),
        tuple(_period(test, period) for period in tested),
        tuple(sorted(named, key=lambda pair: pair[0])),
        len(test.looks),
    )


def _method(test: RollingTest, method: str, score: Score) -> MethodRow:
    errors = tuple(test.of_checkpoint(checkpoint).score(method).error for checkpoint in CHECKPOINTS)
    return MethodRow(METHOD_WORDS[method], score, errors)


def _period(test: RollingTest, period: Period) -> PeriodRow:
    own = test.of_period(period)
    scores = tuple(own.score(method) for method in SHORT)
    inside = sum(look.guesses["outlook"].holds(look.came) for look in own.looks)
    return PeriodRow(period_words(period), own.looks[0].came, scores, inside, len(own.looks))


def back_test_sheet(line: FilterLine, kind: str) -> Sheet:
    """Every look: the period, the day, what was won in the end, and what each method expected with its range."""
    test = rolling_test(line.book, line.snapshot, past_periods(line.book, line.as_of, kind, PERIODS), line.scope)
    header = ["period", "as of", "won"]
    names = (*METHODS, SUBMITTED)
    header += [f"{as_words(method)}, {what}" for method in names for what in ("average", "low", "high")]
    rows = []
    for look in test.looks:
        row: list[object] = [look.period.text, look.on.isoformat(), look.came]
        for method in names:
            guess = look.guesses.get(method)
            row += [None, None, None] if guess is None else [guess.mean, guess.p10, guess.p90]
        rows.append(row)
    return Sheet("back-test", tuple(header), frozenset(header[2:]), rows)
