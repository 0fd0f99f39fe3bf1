"""What a figure is asked with: options in words, and the same with identifiers found in the book."""

from dataclasses import dataclass, field
from datetime import date
from typing import Any

from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period
from wise_tally.core.lines import Filter
from wise_tally.package.cells import scaled

Row = dict[str, Any]


class OptionRefused(ValueError):
    """An option that is not accepted; the message says what is."""


@dataclass(frozen=True)
class Question:
    """What is asked, as identifiers; `None` means all, or the default."""

    figure: str
    as_of: date
    period: str | None = None
    by: str = "company"
    process: str | None = None
    team: str | None = None
    territory: str | None = None
    person: str | None = None
    basis: str = "created"
    strict: bool = False
    decided_only: bool = False
    by_value: bool = False
    leave_out: tuple[str, ...] = ()
    since: date | None = None
    measure: str = "weighted"


@dataclass
class FiguresQuery:
    """A question with its identifiers found in the book."""

    book: Book
    snapshot: BookAsOf
    period: Period
    scope: Filter
    question: Question
    decimals: int
    extra: Row = field(default_factory=dict)

    def money(self, minor: int | None) -> str | None:
        """Minor units as text with the currency's decimals."""
        return None if minor is None else scaled(minor, self.decimals)
