"""Figures as plain data: options in words, the core asked, rows of texts and numbers out."""

from collections.abc import Callable
from functools import partial

from babel.numbers import get_currency_precision

from wise_tally.book.store import books
from wise_tally.core.attainment import AttainmentRow, attainment
from wise_tally.core.breakdowns import OF_FIGURES
from wise_tally.core.bridge import bridge
from wise_tally.core.conversion import ConversionOptions, StageReach, conversion
from wise_tally.core.figure import Kind
from wise_tally.core.figures import REGISTER
from wise_tally.core.forecast import ForecastRow, forecast, forecast_lines
from wise_tally.core.lines import Filter
from wise_tally.core.observed_rates import probability_check
from wise_tally.core.outcome import outcome_of_lines
from wise_tally.core.targets import NO_TARGET
from wise_tally.core.time_in_stage import StageTime, days_to_win, time_in_stage
from wise_tally.core.trees import NONE
from wise_tally.core.working import lines_inside
from wise_tally.domain.org.access import Viewer, allowed_scope
from wise_tally.domain.org.models import Workspace
from wise_tally.interfaces.outlook_figures import outlook, outlook_deals
from wise_tally.interfaces.question import FiguresQuery, OptionRefused, Question, Row


def figures(question: Question, viewer: Viewer | None = None) -> Row:
    """The answer as `{"figure", "scope", "rows"}`, for a viewer only of what he may see.

    Raises OptionRefused, PermissionDenied or a core error with a clear message.
    """
    query = ask(question, viewer)
    rows = FIGURES[question.figure](query)
    scope = {
        "period": query.period.text,
        "starts_on": query.period.starts_on.isoformat(),
        "ends_on": query.period.ends_on.isoformat(),
        "as_of": question.as_of.isoformat(),
        "by": question.by,
        "process": question.process,
        **_whose(query),
        **query.extra,
    }
    return {"figure": question.figure, "scope": scope, "rows": rows}


def _whose(query: FiguresQuery) -> Row:
    """Identifiers of team, territory and person that the scope keeps, a viewer's own included; None for all."""
    reference, scope = query.book.reference, query.scope
    tables = {"team": reference.teams, "territory": reference.territories, "person": reference.people}
    return {
        name: None if getattr(scope, name) == NONE else table[getattr(scope, name)].key
        for name, table in tables.items()
    }


def ask(question: Question, viewer: Viewer | None = None) -> FiguresQuery:
    """Find period and identifiers; raises OptionRefused naming what is accepted."""
    if question.figure not in FIGURES:
        raise OptionRefused(f"“{question.figure}” is not a figure. Choose one of: {', '.join(FIGURES)}.")
    if question.by not in OF_FIGURES:
        raise OptionRefused(f"“{question.by}” is not a breakdown. Choose one of: {', '.join(OF_FIGURES)}.")
    book = books.current()
    reference = book.reference
    fiscal = reference.fiscal
    period = fiscal.parse(question.period) if question.period else fiscal.containing(question.as_of, "quarter")
    scope = Filter(
        process=_find("process", question.process, [key for key, _ in reference.processes]),
        team=_find("team", question.team, [team.key for team in reference.teams]),
        person=_find("person", question.person, [person.key for person in reference.people]),
        territory=_find("territory", question.territory, [node.key for node in reference.territories]),
    )
    if viewer is not None:
        scope = allowed_scope(viewer, reference, question.as_of, scope)
    decimals = get_currency_precision(Workspace.current().currency)
    return FiguresQuery(book, book.as_of(question.as_of), period, scope, question, decimals)


def _find(what: str, key: str | None, keys: list[str]) -> int:
    if key is None:
        return NONE
    if key not in keys:
        known = ", ".join(sorted(keys)[:12]) + (" …" if len(keys) > 12 else "")
        raise OptionRefused(f"“{key}” is not a {what}. Choose one of: {known}.")
    return keys.index(key)


def _forecast(query: FiguresQuery) -> list[Row]:
    rows = forecast(query.book, query.snapshot, query.period, query.scope, query.question.by, calls=True)
    return [_forecast_row(query, row) for row in rows]


def _plain(query: FiguresQuery, row: AttainmentRow, *keys: str) -> Row:
    """Figures of a row by key: money as text, other values as numbers."""
    figures = {key: REGISTER[key] for key in keys}
    return {
        key: query.money(figure.of(row)) if figure.kind == Kind.MONEY else figure.of(row)  # type: ignore[arg-type]
        for key, figure in figures.items()
    }


def _forecast_row(query: FiguresQuery, row: ForecastRow) -> Row:
    names = [category.key for category in query.book.reference.categories]
    figures_of = partial(_plain, query, AttainmentRow(row, NO_TARGET))
    return {
        "key": row.key,
        "name": row.name,
        **figures_of("won", "lost"),
        "categories": {name: query.money(value) for name, value in zip(names, row.categories, strict=True)},
        **figures_of("open", "weighted_open", "weighted", "commit_forecast", "best_case_forecast", "quota"),
        "quota_set": query.money(row.target.own),
        "quota_of_parts": query.money(row.target.of_parts),
        **figures_of("call", "attainment", "gap", "coverage", "overdue", "overdue_before", "undated"),
        **figures_of("deals_won", "deals_open"),
    }


def _attainment(query: FiguresQuery) -> list[Row]:
    rows = attainment(query.book, query.snapshot, query.period, query.scope, query.question.by)
    return [
        {
            "key": row.forecast.key,
            "name": row.forecast.name,
            **_plain(query, row, "quota", "pace", "won", "attainment"),
            "attainment_to_date": row.to_date,
            **_plain(query, row, "gap", "open"),
        }
        for row in rows
    ]


def options_of(query: FiguresQuery) -> ConversionOptions:
    """The conversion options of a question; raises OptionRefused where only one process may be asked."""
    reference, question = query.book.reference, query.question
    if query.scope.process == NONE:
        if len(reference.processes) != 1:
            keys = ", ".join(sorted(key for key, _ in reference.processes)) or "none is set up yet"
            raise OptionRefused(f"Conversion counts one process at a time; give --process with one of: {keys}.")
        query.scope = Filter(0, query.scope.team, query.scope.person, query.scope.territory)
    stages = {reference.stages[i].key: i for i in reference.open_stages(query.scope.process)}
    unknown = [key for key in question.leave_out if key not in stages]
    if unknown:
        raise OptionRefused(
            f"“{unknown[0]}” is not an open stage of the process. Choose one of: {', '.join(sorted(stages))}."
        )
    return ConversionOptions(
        basis=question.basis,
        strict=question.strict,
        decided_only=question.decided_only,
        by_value=question.by_value,
        leave_out=frozenset(stages[key] for key in question.leave_out),
    )


def _conversion(query: FiguresQuery) -> list[Row]:
    options, by = options_of(query), query.question.by
    whole = conversion(query.book, query.snapshot, query.period, query.scope, options)[0]
    query.extra = {name: getattr(whole.totals, name) for name in SCOPE_FIGURES}
    if by == "company":
        return [_stage_row(query, stage) for stage in whole.stages]
    groups = conversion(query.book, query.snapshot, query.period, query.scope, options, by)
    return [
        {**_stage_row(query, stage), "group": group.key, "group_name": group.name}
        for group in groups
        for stage in group.stages
    ]


SCOPE_FIGURES = (
    "created",
    "won",
    "lost",
    "undecided",
    "win_rate_of_created",
    "win_rate_of_closed",
    "closed_won",
    "closed_lost",
    "without_history",
)


def _stage_row(query: FiguresQuery, row: StageReach) -> Row:
    stage = query.book.reference.stages[row.stage]
    return {
        "key": stage.key,
        "name": stage.name,
        "reached": row.reached,
        "value": query.money(row.value),
        "step": row.step,
        "step_low": row.step_interval.low if row.step_interval else None,
        "step_high": row.step_interval.high if row.step_interval else None,
        "from_start": row.from_start,
    }


def _time_in_stage(query: FiguresQuery) -> list[Row]:
    groups = time_in_stage(query.book, query.snapshot, query.period, query.scope, query.question.by)
    rows = []
    for group in groups:
        shown = {} if query.question.by == "company" else {"group": group.key, "group_name": group.name}
        rows += [{**_time_row(query, stage), **shown} for stage in group.stages]
    return rows


def _time_row(query: FiguresQuery, row: StageTime) -> Row:
    stage = query.book.reference.stages[row.stage]
    names = (
        "stays",
        "completed",
        "mean",
        "median",
        "km_median",
        "km_p75",
        "running",
        "running_mean_age",
        "overstaying",
    )
    return {"key": stage.key, "name": stage.name, **{name: getattr(row, name) for name in names}}


def _days_to_win(query: FiguresQuery) -> list[Row]:
    rows = days_to_win(query.book, query.snapshot, query.period, query.scope, query.question.by)
    query.extra = {"without_history": sum(row.without_history for row in rows)}
    return [
        {"key": row.key, "name": row.name, "deals": row.deals, "mean": row.mean, "median": row.median} for row in rows
    ]


def _range(query: FiguresQuery) -> list[Row]:
    """Outcome of each node: for a person credited parts, whole deals' outcome."""
    by = query.question.by
    lines = forecast_lines(query.book, query.snapshot, query.period, query.scope, by)
    rows = []
    for row in forecast(query.book, query.snapshot, query.period, query.scope, by):
        outcome = outcome_of_lines(lines, lines_inside(query.book, lines, by, row.node))
        rows.append(
            {
                "key": row.key,
                "name": row.name,
                "won": query.money(outcome.won_minor),
                **{f"p{q}": query.money(outcome.quantile(q / 100)) for q in (10, 50, 90)},
                "mean": query.money(outcome.mean_minor),
                "chance_of_quota": outcome.chance_of(row.quota),
                "step": query.money(outcome.step_minor),
            }
        )
    return rows


def _bridge(query: FiguresQuery) -> list[Row]:
    question = query.question
    if question.since is None:
        raise OptionRefused("A bridge needs the earlier day; give --from YYYY-MM-DD.")
    if question.since > question.as_of:
        raise OptionRefused(
            f"--from {question.since} is after --as-of {question.as_of}. Choose an earlier --from date."
        )
    if question.by != "company":
        raise OptionRefused("The bridge has causes as rows. Use --by company, with --team, --person or other filters.")
    before = query.book.as_of(question.since)
    rows = bridge(query.book, before, query.snapshot, query.period, query.scope, question.measure)
    query.extra = {"from": question.since.isoformat(), "measure": question.measure}
    return [{"key": r.cause, "name": r.cause, "amount": query.money(r.amount_minor), "deals": r.deals} for r in rows]


def _probability_check(query: FiguresQuery) -> list[Row]:
    stages = query.book.reference.stages
    rows = []
    for group in probability_check(query.book, query.snapshot, query.period, query.scope, query.question.by):
        shown = {} if query.question.by == "company" else {"group": group.key, "group_name": group.name}
        for rate in group.stages:
            low, high = (rate.interval.low, rate.interval.high) if rate.interval else (None, None)
            numbers = {"set": rate.set_rate, "decided": rate.decided, "won": rate.won, "seen": rate.observed}
            stage = stages[rate.stage]
            rows.append(
                {"key": stage.key, "name": stage.name, **numbers, "low": low, "high": high, "off": rate.off, **shown}
            )
    return rows


FIGURES: dict[str, Callable[[FiguresQuery], list[Row]]] = {
    "forecast": _forecast,
    "conversion": _conversion,
    "time-in-stage": _time_in_stage,
    "attainment": _attainment,
    "range": _range,
    "bridge": _bridge,
    "set-and-seen": _probability_check,
    "days-to-win": _days_to_win,
    "outlook": outlook,
    "outlook-deals": outlook_deals,
}
