"""What is asked of conversion beyond the filter line: cohort, counting, breakdown; and the place's tabs."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Self
from urllib.parse import urlencode

from wise_tally.core.breakdowns import OF_FORECAST
from wise_tally.core.conversion import BASES, ConversionOptions
from wise_tally.core.size_bands import SIZE, with_size_bands
from wise_tally.core.trees import NONE
from wise_tally.web.breakdowns import choices, words_of
from wise_tally.web.filter_line import FilterLine, only_process, read_scope
from wise_tally.web.page_query import PageQuery, choice, several, text
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.refusals import NothingYet
from wise_tally.web.request.viewing import PageRequest

# All but the process, of which these pages show one, and the stage, which they show side by side.
BY = ("company", *(by for by in OF_FORECAST if by not in ("process", "stage")), SIZE)


def with_breakdown(line: FilterLine, by: str) -> FilterLine:
    """The line whose book knows the breakdown: size bands are those of the scope."""
    if by != SIZE:
        return line
    return replace(line, book=with_size_bands(line.book, line.snapshot, line.scope))


def line_of(request: PageRequest) -> FilterLine:
    """The filter line with one process; conversion looks at a year unless a period is chosen."""
    line = only_process(read_scope(request, "year"))
    if line.scope.process == NONE:
        raise NothingYet(
            "Stage conversion appears here once you have a sales process.",
            "Set up a process",
            "setup:processes",
        )
    request.filter_line = line
    return line


def stage_asked(request: PageRequest, line: FilterLine) -> str:
    """The stage of a working; the first of the process where none is asked for, as after a change of process."""
    return request.GET.get("stage") or line.book.reference.first_stage(line.scope.process)


@dataclass(frozen=True)
class RowsQuery(PageQuery):
    """A page of one process with the rows of a breakdown."""

    by: str = choice(lambda: dict(choices(BY)), "company")

    @classmethod
    def of(cls, request: PageRequest) -> Self:
        """The question of a request, its book knowing the breakdown; raises Refused."""
        query = cls.read(line_of(request), request.GET)
        return replace(query, line=with_breakdown(query.line, query.by))

    @property
    def rows_chosen(self) -> dict[str, Any]:
        """The breakdown in words, the others to choose from, and the address of the page."""
        links = self.links("by", dict(choices(BY)))
        return {"by": self.by, "by_words": words_of(self.by), "by_links": links, "query": self.query()}

    def row_query(self, key: str | None) -> str:
        """The address by which workings of one row open."""
        return f"{self.query()}&{urlencode({'row': key or ''})}"


@dataclass(frozen=True)
class ConversionQuery(RowsQuery):
    """How the cohort is taken and counted."""

    measure: str = choice(("number", "value"))
    basis: str = choice(BASES)
    counting: str = choice(("reached", "strict"))
    decided: str = choice(("all", "only"))
    per: str = choice(("", "deal"))
    against: str = text()
    leave_out: tuple[str, ...] = several()

    @property
    def per_deal(self) -> bool:
        """Whether a deal's stays in a stage are added up."""
        return self.per == "deal"

    @cached_property
    def options(self) -> ConversionOptions:
        """What the core is asked; raises Refused for a stage that is none of the process."""
        reference = self.line.book.reference
        stages = {reference.stages[i].key: i for i in reference.open_stages(self.line.scope.process)}
        for key in self.leave_out:
            one_of(key, stages, "is not an open stage here", 404)
        return ConversionOptions(
            basis=self.basis,
            strict=self.counting == "strict",
            decided_only=self.decided == "only",
            by_value=self.measure == "value",
            leave_out=frozenset(stages[key] for key in self.leave_out),
        )

    def toggled(self, key: str) -> str:
        """The page's address with a stage left out that is shown, or put back that is left out."""
        return replace(self, leave_out=tuple(sorted({*self.leave_out} ^ {key}))).query()
