"""Submitted forecasts: what each person expects of the period, beside weighted, actual, won + commit and quota; submitted here."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.core.answers.forecast import of_submitted
from wise_tally.core.calls import as_difference
from wise_tally.core.day_reader import WEEKDAYS
from wise_tally.core.number_reader import whole_number
from wise_tally.core.observed_weight import observed_probabilities
from wise_tally.domain.formats import currency_decimals
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.targets.actions import CallFor, CallRefused, make_call, set_calls_due
from wise_tally.domain.typed_numbers import typed_money
from wise_tally.pages.forecast.call_rows import CallEntry, CallRow, call_history, call_rows, folded, in_short
from wise_tally.pages.forecast.outlook_columns import OutlookColumns
from wise_tally.pages.forecast.submitted_chart import course_of, submitted_chart
from wise_tally.web.answers import answer_sentence, span_of, workings
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, period_words, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.nodes import scope_node
from wise_tally.web.request.viewing import PageRequest


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


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """All calls of the period, and calling."""
    line = read_scope(request)
    if request.method != "POST":
        return _page(request, line, {token: TypedCall(*one) for token, one in request.session.pop(REST, {}).items()})
    typed, rest = _typed(request.POST.dict())
    try:
        if "due" in request.POST:
            return _set_due(request, line)
        _call(request, line, typed)
    except CallRefused as refused:
        wrong = {"wrong": str(refused), "wrong_row": getattr(refused, "token", "")}
        return _page(request, line, typed | rest, wrong, 422)
    except PermissionDenied as denied:
        return _page(request, line, typed | rest, {"wrong": str(denied)}, 403)
    if rest:
        request.session[REST] = {token: (one.amount, one.reason) for token, one in rest.items()}
    return redirect(f"{reverse('forecast:calls')}?{line.query()}")


def _page(
    request: PageRequest,
    line: FilterLine,
    typed: dict[str, TypedCall],
    wrong: dict[str, str] | None = None,
    status: int = 200,
) -> HttpResponse:
    """The page with what was typed into its rows, and what was wrong with it."""
    rows = call_rows(request.viewer, line)
    shown = folded(rows)
    observed = observed_probabilities(line.book, line.snapshot, line.period)
    answer = {
        **_summary(line, rows),
        **(wrong or {}),
        "typed_rows": [(row, typed.get(row.token, NOTHING_TYPED)) for row in shown],
        "folded": sum(row.subject == "person" for row in rows) if len(shown) < len(rows) else 0,
        "history": call_history(line, rows),
        "weekdays": list(enumerate(WEEKDAYS)),
        "due": Workspace.current().calls_due_on,
        "may_set_due": request.viewer.may(May.SET_RULES) and not line.is_past,
        "look_back": period_words(observed.look_back),
        "stages_as_set": [line.book.reference.stages[stage].name for stage in sorted(observed.stages_as_set)],
        "footer": Footer(
            rows[0].row.deals_won + rows[0].row.deals_open if rows else 0,
            exports=exports("forecast:calls-table", line.query()),
        ),
    }
    return render(request, "forecast/calls.html", answer, status=status)


def _summary(line: FilterLine, rows: list[CallRow]) -> dict[str, Any]:
    """All rows together: the sentence, the picture, who is missing and who late."""
    top, course = rows[0] if rows else None, course_of(line)
    submitted, quota = (top.row.call, top.row.quota) if top else (None, None)
    missing = [row.row.name for row in rows if row.is_missing]
    sentence = of_submitted(span_of(line), submitted, quota, len(missing), sum(row.subject == "person" for row in rows))
    return {
        "answer_sentence": answer_sentence(
            sentence, workings("forecast:working", f"{line.query()}&node={scope_node(line)[2]}", "call")
        ),
        "rows": rows,
        "top": top,
        "weighing": OutlookColumns.of(line).weighing if any(row.weighed_minor is not None for row in rows) else None,
        "missing": in_short(missing),
        "late": in_short([row.row.name for row in rows if row.is_late]),
        "course": course,
        "chart": submitted_chart(line, course, quota),
    }


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The calls beside the forecast, or their history, as a file."""
    line = read_scope(request)
    rows = call_rows(request.viewer, line)
    sheets = {"": lambda: _calls_sheet(rows), "history": lambda: _history_sheet(call_history(line, rows))}
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
        "combined",
        "won + commit",
        "quota",
        "over quota",
    )
    money = (
        "submitted",
        "weighted",
        "at actual win rates",
        "outlook",
        "combined",
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


def _history_sheet(history: list[CallEntry]) -> Sheet:
    header = ("for", "when", "by", "submitted", "difference", "reason")
    cells = [
        (entry.name, call.made_at.isoformat(), call.made_by.name, call.amount_minor, entry.change_minor, call.reason)
        for entry in history
        if (call := entry.call)
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
    calls = {}
    for name in posted:
        if name.startswith("amount:"):
            token = name.partition(":")[2]
            calls[token] = TypedCall(posted[name].strip(), posted.get(f"reason:{token}", "").strip() or for_all)
    typed = {token: one for token, one in calls.items() if one.amount}
    if "node" not in posted:
        return typed, {}
    typed.pop(posted["node"], None)
    return {posted["node"]: calls.get(posted["node"], NOTHING_TYPED)}, typed


@transaction.atomic
def _call(request: PageRequest, line: FilterLine, typed: dict[str, TypedCall]) -> None:
    """Keep calls, all or none: amounts, or with + or − before them differences to what is called so far."""
    if line.is_past:
        raise CallRefused("Forecasts can only be submitted as of today. Switch to today first.")
    if not typed:
        raise CallRefused("Enter an amount in at least one row.")
    rows = {row.token: row for row in call_rows(request.viewer, line)}
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
