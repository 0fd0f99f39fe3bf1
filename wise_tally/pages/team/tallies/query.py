"""One tally as its address asks it: measure, rows, buckets, comparison, drawing, and its own part of the scope."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from urllib.parse import parse_qsl, urlencode

from wise_tally.core.activity import KINDS
from wise_tally.core.breakdowns import OF_FORECAST, pair
from wise_tally.core.figure import Figure
from wise_tally.core.figures import REPORTED
from wise_tally.core.measures import AMOUNT, BASES, CLOSE, MEASURES
from wise_tally.core.tally import TallyQuery
from wise_tally.pages.team.tallies.words import BUCKET_WORDS, COMPARED, DRAWINGS
from wise_tally.web.breakdowns import with_own
from wise_tally.web.filter_line import PARTS
from wise_tally.web.request.choices import chosen

BY = ("company", *OF_FORECAST)
PINNED = tuple(part for part in PARTS if part != "as_of")


@dataclass(frozen=True)
class TallyQuestion:
    """Every part is in the address and falls back on the first accepted one; `pinned` are the tally's own scope parts."""

    show: str = "won"
    by: str = "company"
    within: str = ""
    bucket: str = ""
    against: str = ""
    draw: str = ""
    measure: str = AMOUNT
    basis: str = CLOSE
    kind: str = ""
    pinned: tuple[tuple[str, str], ...] = ()

    @property
    def drawing(self) -> str:
        """How it is drawn: as chosen where that can be, else what suits its rows and buckets."""
        fits = self.fitting()
        return self.draw if self.draw in fits else fits[0]

    def fitting(self) -> list[str]:
        """The drawings that suit rows and buckets, the usual one first."""
        if self.bucket:
            return (
                ["columns", "line", "table", "year", "trend", "week"]
                if self.by == "company"
                else ["matrix", "line", "table"]
            )
        if self.by == "company":
            return ["figure", "table", "year", "trend", "week"]
        if self.within:
            return ["matrix", "table"]
        return ["bars", "table", *(["ink"] if self.by in ("person", "team", "territory", "partner") else [])]

    @property
    def is_of_the_day(self) -> bool:
        """Whether it counts what stands on the day, whatever the period."""
        return self.figure.is_of_the_day and self.drawing not in ("year", "trend", "week")

    @property
    def figure(self) -> Figure:
        """What is counted."""
        return REPORTED[self.show]

    @property
    def of_core(self) -> TallyQuery:
        """What the core is asked."""
        by = pair(self.by, self.within) if self.within else self.by
        return TallyQuery(self.show, by, self.measure, self.basis)

    def own(self) -> list[tuple[str, str]]:
        """Its own parts as the address names them."""
        usual = TallyQuestion()
        names = ("show", "by", "within", "bucket", "against", "draw", "measure", "basis", "kind")
        return [(name, getattr(self, name)) for name in names if getattr(self, name) != getattr(usual, name)]

    def saved_query(self) -> str:
        """The query by which it is kept: own parts and pinned scope."""
        return urlencode([*self.own(), *self.pinned])


def read_tally(given: Mapping[str, str], every: tuple[str, ...] | None = None) -> TallyQuestion:
    """The tally of an address; what cannot go together gives way to what was chosen first. Raises Refused."""
    show, every = chosen(given, "show", REPORTED), every or with_own(BY)
    allowed = REPORTED[show].breakdowns or every
    by = chosen(given, "by", every)
    within = chosen(given, "within", ("", *every[1:]))
    by = by if by in allowed else allowed[0]
    question = TallyQuestion(
        show=show,
        by=by,
        within=within if REPORTED[show].may_hold_within and by not in ("company", within) else "",
        bucket=chosen(given, "bucket", tuple(BUCKET_WORDS)),
        against=chosen(given, "against", tuple(COMPARED)),
        draw=chosen(given, "draw", ("", *DRAWINGS)),
        measure=chosen(given, "measure", MEASURES),
        basis=chosen(given, "basis", BASES),
        kind=chosen(given, "kind", ("", *KINDS)),
        pinned=tuple((name, given[name]) for name in PINNED if given.get(name)),
    )
    if question.bucket:
        question = replace(question, within="", against="")
    return question


def read_saved(query: str, every: tuple[str, ...] | None = None) -> TallyQuestion:
    """A tally as it was kept; `every` holds all breakdowns, for whoever reads several."""
    return read_tally(dict(parse_qsl(query)), every)
