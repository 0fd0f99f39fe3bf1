"""The filter line: what a page counts, read from the URL and written back to it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, timedelta
from functools import cached_property
from itertools import takewhile
from urllib.parse import urlencode

from wise_tally.book.store import books
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import FiscalCalendar, Period
from wise_tally.core.derived import Cache, derived
from wise_tally.core.errors import UnknownPeriod
from wise_tally.core.lines import Filter
from wise_tally.core.reference_data import ReferenceData
from wise_tally.core.trees import NONE, Tree
from wise_tally.domain.org.access import Viewer, allowed_scope, visible_teams
from wise_tally.domain.org.clock import today
from wise_tally.web.conditions import only_words, read_only
from wise_tally.web.remembered import remembered
from wise_tally.web.request.choices import day_of
from wise_tally.web.request.refusals import BadLink
from wise_tally.web.request.viewing import PageRequest

PARTS = ("period", "who", "where", "process", "kept", "as_of")
# What a page's address may choose that does not outlive a change of its scope: the page of a list, one figure's deals.
PASSING = ("page", "counted", "node", "next", "name")
# Two days typed for a period of one's own.
SPAN = ("first_day", "last_day")
# And what belongs to one process.
OF_PROCESS = ("stage", "leave_out", "row")
# Days that the as-of day is compared with.
COMPARED_DAYS = ("from", "since")


# A picker with more lists teams alone.
MOST_LISTED = 80


@dataclass(frozen=True)
class Choice:
    """One entry of a picker."""

    value: str
    label: str
    depth: int = 0


@dataclass(frozen=True)
class FilterLine:
    """The scope of a page. `given` holds the parts that the URL names."""

    book: Book
    snapshot: BookAsOf
    period: Period
    scope: Filter
    today: date
    given: tuple[tuple[str, str], ...]
    whose_fixed: bool
    choices_who: tuple[Choice, ...]
    any_period: bool = False
    # What else the page's address chooses; it stays when the filter line changes a part.
    rest: tuple[tuple[str, str], ...] = ()

    @cached_property
    def cache(self) -> Cache:
        """What was read and computed for this selection, also by earlier pages while nothing was written."""
        chosen = (self.period, self.scope, self.today, self.given, self.rest, self.whose_fixed, self.any_period)
        return remembered(self.book).of(chosen, (self.book, self.snapshot))

    @cached_property
    def firm(self) -> "FilterLine":
        """The same day with nothing chosen: what no choice changes is read once for all pages."""
        month = self.book.reference.fiscal.containing(self.as_of, "month")
        return FilterLine(self.book, self.snapshot, month, Filter(), self.today, (), False, ())

    @property
    def as_of(self) -> date:
        """The day the book is read at."""
        return self.snapshot.as_of

    @property
    def ends_at(self) -> datetime:
        """The midnight that ends the as-of day: what was done before it counts, and every age runs to it."""
        return datetime.fromtimestamp(self.snapshot.cut, UTC)

    @property
    def is_past(self) -> bool:
        """Whether the page shows another day than today; edits are off then."""
        return self.as_of != self.today

    def query(self, **changes: str | None) -> str:
        """The scope as a query string, with parts changed; None drops one."""
        parts = {**dict(self.given), **changes}
        return urlencode({name: value for name, value in parts.items() if value})

    @property
    def for_a_day(self) -> list[tuple[str, str]]:
        """What a form carries along that asks for another as-of day."""
        return self._without("as_of")

    @property
    def for_a_period(self) -> list[tuple[str, str]]:
        """What a form carries along that asks for another period."""
        return self._without("period")

    def _without(self, part: str) -> list[tuple[str, str]]:
        return [(name, value) for name, value in (*self.given, *self.rest) if name != part]

    @property
    def day_query(self) -> str:
        """The past day as a query string, for pages of which only the day is chosen; empty for today."""
        return f"as_of={self.as_of}" if self.is_past else ""

    @cached_property
    def plain_query(self) -> str:
        """The scope as a query string: many links of a page carry it."""
        return self.query()

    def page_query(self, **changes: str | None) -> str:
        """The same page with parts of its scope changed: its own choices stay, but for those that do not fit it."""
        day = changes.get("as_of") or str(self.today)
        lost = OF_PROCESS if "process" in changes else ()
        remaining = [one for one in self.rest if one[0] not in lost and not (one[0] in COMPARED_DAYS and one[1] > day)]
        rest = urlencode(remaining)
        return "&".join(part for part in (self.query(**changes), rest) if part)

    @cached_property
    def before(self) -> str | None:
        """Query of the previous period."""
        return self._shifted(-1)

    @cached_property
    def after(self) -> str | None:
        """Query of the next period."""
        return self._shifted(1)

    def _shifted(self, step: int) -> str | None:
        try:
            return self.page_query(period=self.book.reference.fiscal.shifted(self.period, step).text)
        except UnknownPeriod:
            return None

    @property
    def period_label(self) -> str:
        """The period in words: Q3 FY2027, month, week or two dates."""
        return period_words(self.period)

    @property
    def who_label(self) -> str:
        """Whose deals are counted."""
        reference = self.book.reference
        if self.scope.person != NONE:
            return reference.people[self.scope.person].name
        return reference.teams[self.scope.team].name if self.scope.team != NONE else "everyone"

    @property
    def where_label(self) -> str:
        """Which territory is counted."""
        node = self.scope.territory
        return "all territories" if node == NONE else self.book.reference.territories[node].name

    @property
    def process_label(self) -> str:
        """Which process is counted."""
        index = self.scope.process
        return "all processes" if index == NONE else self.book.reference.processes[index][1]

    @cached_property
    def only_label(self) -> str:
        """What else the deals counted have in common; empty where all count."""
        return only_words(self.book, self.scope.only, self.as_of)

    @property
    def query_without_only(self) -> str:
        """The same scope with all deals again."""
        return self.page_query(kept=None)

    @cached_property
    def who_value(self) -> str:
        """The chosen person or team as the picker names it."""
        reference = self.book.reference
        if self.scope.person != NONE:
            return f"person:{reference.people[self.scope.person].key}"
        return f"team:{reference.teams[self.scope.team].key}" if self.scope.team != NONE else ""

    @property
    def where_value(self) -> str:
        """The chosen territory's identifier."""
        return "" if self.scope.territory == NONE else self.book.reference.territories[self.scope.territory].key

    @property
    def process_value(self) -> str:
        """The chosen process's identifier."""
        return "" if self.scope.process == NONE else self.book.reference.processes[self.scope.process][0]

    @property
    def query_today(self) -> str:
        """The same scope as it stands today."""
        return self.page_query(as_of=None, period=self.period.text)

    @property
    def query_week_ago(self) -> str:
        """The same scope as it stood a week ago."""
        return self.page_query(as_of=(self.today - timedelta(days=7)).isoformat(), period=self.period.text)

    @property
    def query_period_start(self) -> str:
        """The same scope as it stood before the period began."""
        before = min(self.period.starts_on - timedelta(days=1), self.today)
        return self.page_query(as_of=before.isoformat(), period=self.period.text)

    @cached_property
    def listed_who(self) -> tuple[Choice, ...]:
        """Teams and people that the picker lists."""
        return _listed(self.choices_who, self.who_value)

    @cached_property
    def listed_where(self) -> tuple[Choice, ...]:
        """Territories that the picker lists."""
        return _listed(self.choices_where, self.where_value)

    @cached_property
    def choices_where(self) -> tuple[Choice, ...]:
        """All territories, in tree order."""
        reference, tree = self.book.reference, self.book.reference.territory_tree(self.as_of)
        choices = tuple(
            Choice(reference.territories[i].key, reference.territories[i].name, d) for i, d in in_tree_order(tree)
        )
        return (Choice("", "all territories"), *choices)

    @cached_property
    def choices_process(self) -> tuple[Choice, ...]:
        """All processes."""
        return (Choice("", "all processes"), *(Choice(key, name) for key, name in self.book.reference.processes))

    @cached_property
    def choices_period(self) -> tuple[Choice, ...]:
        """Years, quarters and months around today and the present choice."""
        fiscal = self.book.reference.fiscal
        year = fiscal.fiscal_year_of(self.today)
        periods = [fiscal.part(y, "year", 1) for y in range(year - 2, year + 2)]
        periods += [fiscal.part(y, "quarter", q) for y in (year - 1, year) for q in range(1, 5)]
        periods += [fiscal.shifted(fiscal.containing(self.today, "month"), step) for step in range(-4, 5)]
        periods += [fiscal.shifted(fiscal.containing(self.today, "week"), step) for step in range(-1, 3)]
        if self.period.text not in [period.text for period in periods]:
            periods.append(self.period)
        return tuple(Choice(period.text, period_words(period)) for period in periods)


def period_words(period: Period) -> str:
    """A period in the words of the filter line."""
    if period.kind == "quarter":
        return f"{period.text[-2:]} {period.text[:6]}"
    if period.kind == "month":
        return f"{period.starts_on:%B %Y}"
    if period.kind == "week":
        return f"week {int(period.text[-2:])} of {period.text[:4]}"
    if period.kind == "year":
        return period.text
    return f"{period.starts_on:%-d %b %Y} to {period.ends_on:%-d %b %Y}"


def in_tree_order(tree: Tree, node: int = NONE, depth: int = 0) -> list[tuple[int, int]]:
    """Nodes with their depth, parents before children."""
    nodes = []
    for child in tree.children(node):
        nodes += [(child, depth), *in_tree_order(tree, child, depth + 1)]
    return nodes


def read_scope(request: PageRequest, default_kind: str = "quarter") -> FilterLine:
    """The filter line of a request, narrowed to what the viewer may see; raises Refused or PermissionDenied."""
    line = scope_of(request.viewer, request.GET, default_kind)
    own = [(name, values) for name, values in request.GET.lists() if name not in (*PARTS, *PASSING, *SPAN)]
    line = replace(line, rest=tuple((name, value) for name, values in own for value in values))
    request.filter_line = line
    return line


def read_day(request: PageRequest) -> FilterLine:
    """The line of a page of which only the as-of day is chosen; raises Refused."""
    given = {"as_of": request.GET["as_of"]} if request.GET.get("as_of") else {}
    return replace(scope_of(request.viewer, given), any_period=True)


def scope_of(viewer: Viewer, asked_for: Mapping[str, str], default_kind: str = "quarter") -> FilterLine:
    """The filter line that parts of an address name (others are passed over); raises Refused or PermissionDenied."""
    book, day = books.current(), today()
    reference = book.reference
    as_of = day_of(asked_for["as_of"]) if asked_for.get("as_of") else day
    period = _period(asked_for, reference.fiscal) or reference.fiscal.containing(as_of, default_kind)
    who = _who(asked_for.get("who"), book)
    wanted = Filter(
        process=_find("process", asked_for.get("process"), [key for key, _ in reference.processes]),
        territory=_find("territory", asked_for.get("where"), [node.key for node in reference.territories]),
        team=who.get("team", NONE),
        person=who.get("person", NONE),
        only=read_only(book, asked_for.get("kept", ""), as_of),
    )
    scope = allowed_scope(viewer, reference, as_of, wanted)
    parts = {**asked_for, "period": period.text} if SPAN[0] in asked_for else asked_for
    given = tuple((name, parts[name]) for name in PARTS if parts.get(name))
    visible = visible_teams(viewer, reference, as_of)
    return FilterLine(
        book=book,
        snapshot=book.as_of(as_of),
        period=period,
        scope=scope,
        today=day,
        given=given,
        whose_fixed=viewer.sees_own_only and not viewer.sees_team,
        choices_who=() if viewer.sees_own_only and not viewer.sees_team else _choices_who(reference, as_of, visible),
    )


def _period(asked_for: Mapping[str, str], fiscal: FiscalCalendar) -> Period | None:
    """The period that an address names or that two days typed make, None where it says none."""
    if SPAN[0] in asked_for:
        return fiscal.parse("/".join(asked_for.get(name, "") for name in SPAN))
    text = asked_for.get("period")
    try:
        return fiscal.parse(text) if text else None
    except UnknownPeriod as error:
        raise BadLink(str(error), text or "") from error


def _listed(choices: Sequence[Choice], chosen: str) -> tuple[Choice, ...]:
    """Of many choices the upper levels, and with the chosen one what it is in and what is right below; others are found by typing."""
    if len(choices) <= MOST_LISTED:
        return tuple(choices)
    fits = sorted(choice.depth for choice in choices)[MOST_LISTED]
    listed = {index for index, one in enumerate(choices) if one.depth < fits} or set(range(MOST_LISTED))
    index = next((index for index, one in enumerate(choices) if one.value == chosen), 0)
    above = choices[index].depth + 1
    for before in range(index, -1, -1):
        if choices[before].depth < above:
            listed.add(before)
            above = choices[before].depth
    within = takewhile(lambda after: choices[after].depth > choices[index].depth, range(index + 1, len(choices)))
    below = [after for after in within if choices[after].depth == choices[index].depth + 1]
    return tuple(one for index, one in enumerate(choices) if index in listed.union(below[:MOST_LISTED]))


@derived(most=8)
def _choices_who(reference: ReferenceData, as_of: date, visible: frozenset[int] | None) -> tuple[Choice, ...]:
    tree = reference.team_tree(as_of)
    members: dict[int, list[int]] = {}
    for index in range(len(reference.people)):
        members.setdefault(reference.team_of(index, as_of.toordinal()), []).append(index)
    choices = [Choice("", "everyone")] if visible is None else []
    for team, depth in in_tree_order(tree):
        if visible is not None and team not in visible:
            continue
        choices.append(Choice(f"team:{reference.teams[team].key}", reference.teams[team].name, depth))
        for person in sorted(members.get(team, []), key=lambda i: reference.people[i].name):
            choices.append(Choice(f"person:{reference.people[person].key}", reference.people[person].name, depth + 1))
    return tuple(choices)


def _who(text: str | None, book: Book) -> dict[str, int]:
    if not text:
        return {}
    kind, _, key = text.partition(":")
    if not key:
        raise BadLink(f"“{text[:60]}” is not a person or team. Choose one from the list.", text)
    if kind == "team":
        return {"team": _find("team", key, [team.key for team in book.reference.teams])}
    if kind == "person":
        return {"person": _find("person", key, [person.key for person in book.reference.people])}
    raise BadLink(f"“{text[:60]}” is not a person or team. Choose one from the list.", text)


def _find(what: str, key: str | None, keys: list[str]) -> int:
    if not key:
        return NONE
    if key not in keys:
        known = ", ".join(sorted(keys)[:12])
        raise BadLink(f"{what.capitalize()} “{key[:60]}” not found. Choose one of: {known}.", key, 404)
    return keys.index(key)


def only_process(line: FilterLine) -> FilterLine:
    """The line with one process: the chosen one, else the first."""
    if line.scope.process != NONE or not line.book.reference.processes:
        return line
    return replace(line, scope=replace(line.scope, process=0))
