"""Chances of open deals to be won in the filter line's period, each with the past deals behind it and what was corrected."""

from collections.abc import Iterable
from dataclasses import dataclass

from django.urls import reverse
from django.utils.safestring import SafeString

from wise_tally.core.answers.answer import Answer
from wise_tally.core.answers.outlook import why_chance
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import NO_DAY, Period
from wise_tally.core.money import Ints
from wise_tally.core.outlook.claims import claims_more
from wise_tally.core.outlook.reference_class import ReferenceClass, reference_class
from wise_tally.core.outlook.rows import OfDeals, days_ahead, of_deals, shown_chances
from wise_tally.core.statistics import DAY_SECONDS, Floats
from wise_tally.web.answers import answer_sentence, plain
from wise_tally.web.filter_line import FilterLine


@dataclass(frozen=True)
class ChanceOfDeal:
    """A deal's chance: by stage and age alone, and corrected; what shifts its log-odds; the past deals behind it."""

    key: str
    stage: str
    chance: float
    by_age: float
    shifts: dict[str, float]
    like: ReferenceClass

    @property
    def answer(self) -> Answer:
        """The reason in one sentence."""
        return why_chance(self.like, self.stage, self.by_age, self.chance, self.shifts)

    @property
    def plain(self) -> str:
        """The reason as text."""
        return plain(self.answer)

    def words(self, line: FilterLine) -> SafeString:
        """The reason, its numbers opening the deals they count."""
        address = reverse("deals:chance-working", args=[self.key])
        return answer_sentence(
            self.answer, {part: f"{address}?{line.query(counted=part)}" for part in ("like", "like_won")}
        )


def chances_of(line: FilterLine, rows: Iterable[int]) -> dict[int, ChanceOfDeal]:
    """The chances of open deals by row of the snapshot; those with too few past deals are there without one."""
    whole = of_deals(line.book, line.snapshot, line.period)
    index_of = {int(row): index for index, row in enumerate(whole.chances.places)}
    selection = (line.book, line.snapshot, line.period)
    return {row: chance_at(*selection, whole, index_of[row]) for row in rows if row in index_of}


def chance_at(book: Book, snapshot: BookAsOf, period: Period, whole: OfDeals, index: int) -> ChanceOfDeal:
    """The chance of one of the open deals of `whole`, by its place among them."""
    given, states = whole.chances, whole.chances.states
    stage, age = int(states.stage[index]), int(states.age_seconds[index]) // DAY_SECONDS
    before, horizon = days_ahead(snapshot, period)
    return ChanceOfDeal(
        book.deals.key[int(states.deal[index])],
        book.reference.stages[stage].name,
        float(given.chance[index]),
        float(given.by_age[index]),
        {factor: float(shift[index]) for factor, shift in given.shifts.items()},
        reference_class(book, snapshot.cut, horizon, stage, age, before),
    )


def chance_column(line: FilterLine, rows: Ints) -> Floats:
    """The chances of deals at rows of the snapshot; NaN where there is none."""
    return shown_chances(line.book, line.snapshot, line.period)[rows]


def claimed(line: FilterLine, row: int, chance: float) -> str:
    """What marks a deal due in the period whose category says more than its chance: though commit; empty for others."""
    category, close = int(line.snapshot.category[row]), int(line.snapshot.expected_close[row])
    due = NO_DAY < close <= line.period.ends_on.toordinal()
    if not due or not claims_more(line.book.reference, category, chance):
        return ""
    return f"though {line.book.reference.categories[category].name}"
