"""What a sentence is made of: words with places, and the figures that stand in them."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from wise_tally.core.calendar import Period

Kind = Literal["money", "rate", "days", "points", "number", "name", "times", "deal", "customer", "day"]

# Rates from fewer deals than this say nothing, as on the pages of conversion.
FEW = 20


@dataclass(frozen=True)
class Part:
    """A figure of a sentence: minor units, a rate from 0 to 1, days, basis points, a count with its noun, a name,
    a deal (its index in the book) or customer (its row number) whose name the page knows, or a day as an ordinal.

    `figure` is the key of the page's figure whose working it opens; empty where it opens none.
    """

    value: int | float | str
    kind: Kind = "money"
    figure: str = ""
    noun: str = ""


@dataclass(frozen=True)
class Answer:
    """A sentence whose `{places}` are filled by its parts; every number in it is one of them."""

    sentence: str
    parts: Mapping[str, Part] = field(default_factory=dict)


def answer(sentence: str, **parts: Part) -> Answer:
    """A sentence with its parts."""
    return Answer(sentence, parts)


def many(number: int, noun: str, figure: str = "") -> Part:
    """A count with its noun in the singular: the page writes the plural."""
    return Part(number, "number", figure, noun)


def named(name: str, figure: str = "") -> Part:
    """A name as a part."""
    return Part(name, "name", figure)


@dataclass(frozen=True)
class Span:
    """A period as a sentence speaks of it: its kind in a word, and how many days of it are left (0 once it is over)."""

    word: str
    days_left: int

    @classmethod
    def of(cls, period: Period, days_left: int) -> "Span":
        """The words of a period with as many days left."""
        return cls(period.kind if period.kind in ("month", "quarter", "year", "week") else "period", days_left)
