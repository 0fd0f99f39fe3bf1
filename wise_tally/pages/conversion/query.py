"""What is asked of conversion beyond the filter line: cohort, counting, breakdown; and the place's tabs."""

from dataclasses import replace

from wise_tally.core.breakdowns import OF_FORECAST
from wise_tally.core.conversion import BASES, ConversionOptions
from wise_tally.core.size_bands import SIZE, with_size_bands
from wise_tally.core.trees import NONE
from wise_tally.web.breakdowns import choices
from wise_tally.web.filter_line import FilterLine, only_process, read_scope
from wise_tally.web.request.choices import chosen
from wise_tally.web.request.refusals import NothingYet, Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.tabs import Tab, tabs_of

# All but the process, of which these pages show one, and the stage, which they show side by side.
BY = ("company", *(by for by in OF_FORECAST if by not in ("process", "stage")), SIZE)
TABS = (
    ("conversion:page", "Passing", ""),
    ("conversion:leads", "Leads", ""),
    ("conversion:time", "Time in stage", ""),
    ("conversion:seen", "Set and seen", ""),
    ("conversion:records", "Records", ""),
    ("conversion:lost", "Lost, why", ""),
    ("conversion:over-time", "Over time", ""),
)


def tabs(line: FilterLine, here: str) -> list[Tab]:
    """All pages, the present one marked."""
    return tabs_of(line, TABS, f"conversion:{here}")


def by_of(request: PageRequest) -> str:
    """The breakdown asked for; raises Refused."""
    return chosen(request.GET, "by", tuple(name for name, _ in choices(BY)), "company")


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
            "Here stands how deals pass through the stages of a process; there is no process yet.",
            "Set one up",
            "setup:processes",
        )
    request.filter_line = line
    return line


def by_value(request: PageRequest) -> bool:
    """Whether money is asked for instead of numbers; raises Refused."""
    return chosen(request.GET, "measure", ("number", "value"), "number") == "value"


def options_of(line: FilterLine, request: PageRequest) -> ConversionOptions:
    """How the cohort is taken and counted, as the address says; raises Refused."""
    basis = chosen(request.GET, "basis", BASES, "created")
    counting = chosen(request.GET, "counting", ("reached", "strict"), "reached")
    decided = chosen(request.GET, "decided", ("all", "only"), "all")
    stages = {line.book.reference.stages[i].key: i for i in line.book.reference.open_stages(line.scope.process)}
    left = request.GET.getlist("leave_out")
    if unknown := [key for key in left if key not in stages]:
        raise Refused(f"“{unknown[0][:60]}” is not an open stage here; accepted: {', '.join(stages)}.", 404)
    return ConversionOptions(
        basis=basis,
        strict=counting == "strict",
        decided_only=decided == "only",
        by_value=by_value(request),
        leave_out=frozenset(stages[key] for key in left),
    )
