"""Calls: what each says the period will bring, beside weighted, seen, won + commit and quota; called and looked back at here."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import quote

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.core.answers.forecast import of_submitted
from wise_tally.core.calls import as_difference, calls_in_force, last_due
from wise_tally.core.day_reader import WEEKDAYS
from wise_tally.core.forecast import ForecastRow, forecast
from wise_tally.core.number_reader import whole_number
from wise_tally.core.observed_weight import observed_probabilities, weighted_by_observed
from wise_tally.core.reference_data import Node, Person
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import currency_decimals, money, signed_short
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import local_day, now
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.targets.actions import CallFor, CallRefused, calling, make_call, set_calls_due
from wise_tally.domain.targets.models import Call
from wise_tally.domain.typed_numbers import typed_money
from wise_tally.pages.forecast.outlook_beside import OutlookBeside
from wise_tally.pages.forecast.submitted_chart import course_of, submitted_chart
from wise_tally.pages.forecast.tabs import tabs
from wise_tally.web.answers import say, span_of, workings
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, in_tree_order, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.leavers import leavers
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest

# From so many people on a page shows teams; so many names are told in a sentence.
MOST_PEOPLE, MOST_NAMED = 60, 20


@dataclass(frozen=True)
class CallRow:
    """A node with its figures (minor units), the call that holds, and whether the viewer may call for it."""

    subject: str
    key: str
    depth: int
    row: ForecastRow
    observed_minor: int
    outlook_minor: int | None
    weighed_minor: int | None
    made: Call | None
    is_late: bool
    is_missing: bool
    may_call: bool

    @property
    def token(self) -> str:
        """The node as forms name it."""
        return f"{self.subject}:{self.key}"

    @property
    def node(self) -> str:
        """The node as links to workings name it."""
        return f"{self.subject}:{quote(self.key, safe='')}"

    @property
    def over_quota_minor(self) -> int | None:
        """Called less quota."""
        return None if self.row.call is None or self.row.quota is None else self.row.call - self.row.quota


@dataclass(frozen=True)
class TypedCall:
    """An amount and a reason as typed into a row."""

    amount: str
    reason: str


NOTHING_TYPED = TypedCall("", "")
# What was typed into other rows than the one submitted stays there.
REST = "typed_forecasts"


class RowRefused(CallRefused):
    """What was typed into the row of this token cannot be kept."""

    def __init__(self, words: str, token: str) -> None:
        super().__init__(words)
        self.token = token


@dataclass(frozen=True)
class Told:
    """One call of the history with what it changed, in minor units."""

    name: str
    call: Call
    before_minor: int | None
    query: str

    @property
    def shown(self) -> tuple[str, str]:
        """The amount and its change in words."""
        return money(self.call.amount_minor), signed_short(self.change_minor)

    @property
    def change_minor(self) -> int | None:
        """This call less the one before it for the same node."""
        return None if self.before_minor is None else self.call.amount_minor - self.before_minor


def _rows(request: PageRequest, line: FilterLine) -> list[CallRow]:
    """The people tree of the scope with each node's call."""
    viewer, reference = request.viewer, line.book.reference
    held, gone = _held(line), _gone(line)
    due = last_due(line.as_of, Workspace.current().calls_due_on, line.period)
    rows: list[CallRow] = []
    beside, may = OutlookBeside.of(line), calling(viewer, reference, line.today)

    def add(by: str, node: int, depth: int, row: ForecastRow, seen: int) -> None:
        key = "" if by == "company" else str(row.key)
        made = held.get((by, key))
        awaited = by == "person" and row.key not in gone
        late = awaited and due is not None and (made is None or local_day(made.made_at, reference.time_zone) < due)
        allowed = not line.is_past and may(by, key)
        expected = beside.outlook_of(by, node)
        weighed = beside.weighed(row, expected)
        rows.append(
            CallRow(by, key, depth, row, seen, expected, weighed, made, late, awaited and made is None, allowed)
        )

    figures = {
        by: {row.node: row for row in forecast(line.book, line.snapshot, line.period, line.scope, by, calls=True)}
        for by in ("company", "team", "person")
    }
    seen = {by: weighted_by_observed(line.book, line.snapshot, line.period, line.scope, by) for by in figures}
    if line.scope.person != NONE:
        node = line.scope.person
        add("person", node, 0, figures["person"][node], seen["person"][node])
        return rows
    depth = 0
    if line.scope.team == NONE:
        add("company", 0, 0, figures["company"][0], seen["company"][0])
        depth = 1
    tree, day = reference.team_tree(line.as_of), line.as_of.toordinal()
    people_of: dict[int, list[tuple[int, ForecastRow]]] = {}
    for person, row in figures["person"].items():
        if person != NONE and _counts(row):
            people_of.setdefault(reference.team_of(person, day), []).append((person, row))
    start = len(tree.paths[line.scope.team]) - 1 if line.scope.team != NONE else 0
    for team, level in in_tree_order(tree):
        if team in figures["team"]:
            add("team", team, level - start + depth, figures["team"][team], seen["team"][team])
            for person, row in people_of.get(team, ()):
                add("person", person, level - start + depth + 1, row, seen["person"][person])
    return rows


def folded(rows: list[CallRow]) -> list[CallRow]:
    """The rows that a page shows: of more than sixty people the teams alone, and of more than sixty teams the upper ones; each
    shows what is below it.
    """
    if sum(row.subject == "person" for row in rows) <= MOST_PEOPLE:
        return rows
    shown = [row for row in rows if row.subject != "person"]
    while len(shown) > MOST_PEOPLE and (deepest := max(row.depth for row in shown)) > 1:
        shown = [row for row in shown if row.depth < deepest]
    return shown


def in_short(names: Sequence[str | None]) -> list[str]:
    """The first names of many, and how many more there are."""
    more = [f"{len(names) - MOST_NAMED} more"] if len(names) > MOST_NAMED else []
    return [*(name or "" for name in names[:MOST_NAMED]), *more]


def _counts(row: ForecastRow) -> bool:
    """Whether a person has anything to call about: a quota, or deals in the period."""
    return bool(row.quota or row.won or row.open or row.undated)


def _gone(line: FilterLine) -> frozenset[str]:
    """People who have left; nobody waits for their calls."""
    return frozenset(leavers(line))


def _made(line: FilterLine) -> list[Call]:
    """All calls of the period that were made by the as-of day, in the order they were made."""
    end = datetime.fromtimestamp(line.snapshot.cut, UTC)
    calls = Call.objects.filter(starts_on=line.period.starts_on, ends_on=line.period.ends_on, made_at__lt=end)
    return list(calls.select_related("made_by").order_by("made_at", "pk"))


def _held(line: FilterLine) -> dict[tuple[str, str], Call]:
    """The call that holds for each node, as the core decides, with its reason from the database."""
    reference = line.book.reference
    rows = {(c.subject, c.subject_key, int(c.made_at.timestamp()), c.made_by.key): c for c in _made(line)}
    nodes: dict[str, Sequence[Person | Node]] = {
        "person": reference.people,
        "team": reference.teams,
        "territory": reference.territories,
    }
    found: dict[tuple[str, str], Call] = {}
    for (subject, index), call in calls_in_force(reference, line.as_of, line.period).items():
        key = nodes[subject][index].key if subject in nodes else ""
        row = rows.get((subject, key, call.made_at, reference.people[call.made_by].key))
        if row is not None:
            found[subject, key] = row
    return found


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """All calls of the period, and calling."""
    line = read_scope(request)
    wrong, wrong_row, status = "", "", 200
    typed = {token: TypedCall(*one) for token, one in request.session.pop(REST, {}).items()}
    if request.method == "POST":
        typed, rest = _typed(request.POST.dict())
        try:
            if "due" in request.POST:
                return _set_due(request, line)
            _call(request, line, typed)
            if rest:
                request.session[REST] = {token: (one.amount, one.reason) for token, one in rest.items()}
            return redirect(f"{reverse('forecast:calls')}?{line.query()}")
        except CallRefused as refused:
            wrong, status, wrong_row = str(refused), 422, getattr(refused, "token", "")
        except PermissionDenied as denied:
            wrong, status = str(denied), 403
        typed |= rest
    rows = _rows(request, line)
    shown = folded(rows)
    seen = observed_probabilities(line.book, line.snapshot, line.period)
    missing = [row.row.name for row in rows if row.is_missing]
    top, people = (rows[0].row if rows else None), sum(row.subject == "person" for row in rows)
    submitted, quota = (top.call, top.quota) if top else (None, None)
    course = course_of(line)
    told = of_submitted(span_of(line), submitted, quota, len(missing), people)
    answer = {
        "line": line,
        "say": say(told, workings("forecast:working", f"{line.query()}&node={scope_node(line)[2]}", "call")),
        "tabs": tabs(line, "calls"),
        "rows": rows,
        "typed_rows": [(row, typed.get(row.token, NOTHING_TYPED)) for row in shown],
        "folded": people if len(shown) < len(rows) else 0,
        "top": rows[0] if rows else None,
        "weighing": OutlookBeside.of(line).weighing if any(row.weighed_minor is not None for row in rows) else None,
        "missing": in_short(missing),
        "late": in_short([row.row.name for row in rows if row.is_late]),
        "course": course,
        "chart": submitted_chart(line, course, quota),
        "history": _history(line, rows),
        "wrong": wrong,
        "wrong_row": wrong_row,
        "weekdays": list(enumerate(WEEKDAYS)),
        "due": Workspace.current().calls_due_on,
        "may_set_due": request.viewer.may(May.SET_RULES) and not line.is_past,
        "look_back": period_words(seen.look_back),
        "kept_set": [line.book.reference.stages[stage].name for stage in sorted(seen.kept_set)],
        "footer": Footer(
            rows[0].row.deals_won + rows[0].row.deals_open if rows else 0,
            exports=exports("forecast:calls-table", line.query()),
        ),
    }
    return render(request, "forecast/calls.html", answer, status=status)


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The calls beside the forecast, or their history, as a file."""
    line = read_scope(request)
    rows = _rows(request, line)
    sheets = {"": lambda: _calls_sheet(rows), "history": lambda: _history_sheet(_history(line, rows))}
    return chosen_sheet(request, sheets, kind)


def _calls_sheet(rows: list[CallRow]) -> Sheet:
    header = (
        "who",
        "level",
        "submitted",
        "submitted by",
        "date",
        "reason",
        "weighted",
        "at actual win rates",
        "outlook",
        "weighed",
        "won + commit",
        "quota",
        "over quota",
    )
    money = (
        "submitted",
        "weighted",
        "at actual win rates",
        "outlook",
        "weighed",
        "won + commit",
        "quota",
        "over quota",
    )
    cells = [
        (
            *(row.row.name, row.depth, row.row.call),
            *((row.made.made_by.name, row.made.made_at.isoformat(), row.made.reason) if row.made else ("", "", "")),
            *(row.row.weighted, row.observed_minor, row.outlook_minor, row.weighed_minor),
            *(row.row.commit_forecast, row.row.quota, row.over_quota_minor),
        )
        for row in rows
    ]
    return Sheet("submitted", header, frozenset(money), cells)


def _history_sheet(history: list[Told]) -> Sheet:
    header = ("for", "when", "by", "submitted", "difference", "reason")
    cells = [
        (told.name, call.made_at.isoformat(), call.made_by.name, call.amount_minor, told.change_minor, call.reason)
        for told in history
        if (call := told.call)
    ]
    return Sheet("submitted forecasts", header, frozenset({"submitted", "difference"}), cells)


def _set_due(request: PageRequest, line: FilterLine) -> HttpResponse:
    text = request.POST["due"]
    weekday = whole_number(text, len(WEEKDAYS) - 1)
    if text and weekday is None:
        raise CallRefused(f"“{text[:10]}” is not a weekday. Choose one from the list.")
    set_calls_due(request.viewer, weekday, now())
    return redirect(f"{reverse('forecast:calls')}?{line.query()}")


def _typed(posted: Mapping[str, str]) -> tuple[dict[str, TypedCall], dict[str, TypedCall]]:
    """What was typed by row, and what is not to be submitted of it: all but the row whose own button was pressed, where one was."""
    for_all = posted.get("reason_for_all", "").strip()
    found = {}
    for name in posted:
        if name.startswith("amount:"):
            token = name.partition(":")[2]
            found[token] = TypedCall(posted[name].strip(), posted.get(f"reason:{token}", "").strip() or for_all)
    typed = {token: one for token, one in found.items() if one.amount}
    if "node" not in posted:
        return typed, {}
    typed.pop(posted["node"], None)
    return {posted["node"]: found.get(posted["node"], NOTHING_TYPED)}, typed


@transaction.atomic
def _call(request: PageRequest, line: FilterLine, typed: dict[str, TypedCall]) -> None:
    """Keep calls, all or none: amounts, or with + or − before them differences to what is called so far."""
    if line.is_past:
        raise CallRefused("Forecasts can only be submitted as of today. Switch to today first.")
    if not typed:
        raise CallRefused("Enter an amount in at least one row.")
    rows = {row.token: row for row in _rows(request, line)}
    if not set(typed) <= set(rows):
        raise Http404
    for token, one in typed.items():
        try:
            _call_row(request, line, rows[token], one)
        except CallRefused as refused:
            raise RowRefused(f"{rows[token].row.name}: {refused}", token) from refused


def _call_row(request: PageRequest, line: FilterLine, row: CallRow, typed: TypedCall) -> None:
    text, sign = typed.amount.replace("−", "-"), 0
    if text[:1] in ("+", "-"):
        sign, text = (1 if text[0] == "+" else -1), text[1:]
    value = typed_money(text, currency_decimals())
    if isinstance(value, str):
        raise CallRefused(f"{value} Start with + or − to change the amount submitted so far.")
    amount = as_difference(row.row.call, sign * value) if sign else value
    of = CallFor(row.subject, row.key, line.period.starts_on, line.period.ends_on)
    make_call(request.viewer, line.book.reference, of, amount, typed.reason, now())


def _history(line: FilterLine, rows: list[CallRow]) -> list[Told]:
    """All calls of this period for the nodes shown, the newest first, each beside the one before it."""
    names = {(row.subject, row.key): row.row.name or "" for row in rows}
    before: dict[tuple[str, str], int] = {}
    told, zone = [], line.book.reference.time_zone
    for call in _made(line):
        node = (call.subject, call.subject_key)
        if node in names:
            query = line.query(as_of=local_day(call.made_at, zone).isoformat(), period=line.period.text)
            told.append(Told(names[node], call, before.get(node), f"{query}&node={node[0]}:{quote(node[1], safe='')}"))
        before[node] = call.amount_minor
    return told[::-1]
