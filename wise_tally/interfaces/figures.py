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
    asked = ask(question, viewer)
    rows = FIGURES[question.figure](asked)
    scope = {
        "period": asked.period.text,
        "starts_on": asked.period.starts_on.isoformat(),
        "ends_on": asked.period.ends_on.isoformat(),
        "as_of": question.as_of.isoformat(),
        "by": question.by,
        "process": question.process,
        **_whose(asked),
        **asked.extra,
    }
    return {"figure": question.figure, "scope": scope, "rows": rows}


def _whose(asked: FiguresQuery) -> Row:
    """Identifiers of team, territory and person that the scope keeps, a viewer's own included; None for all."""
    reference, scope = asked.book.reference, asked.scope
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


def _forecast(asked: FiguresQuery) -> list[Row]:
    rows = forecast(asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by, calls=True)
    return [_forecast_row(asked, row) for row in rows]


def _plain(asked: FiguresQuery, row: AttainmentRow, *keys: str) -> Row:
    """Figures of a row by key: money as text, other values as numbers."""
    found = {key: REGISTER[key] for key in keys}
    return {
        key: asked.money(figure.of(row)) if figure.kind == Kind.MONEY else figure.of(row)  # type: ignore[arg-type]
        for key, figure in found.items()
    }


def _forecast_row(asked: FiguresQuery, row: ForecastRow) -> Row:
    names = [category.key for category in asked.book.reference.categories]
    figures_of = partial(_plain, asked, AttainmentRow(row, NO_TARGET))
    return {
        "key": row.key,
        "name": row.name,
        **figures_of("won", "lost"),
        "categories": {name: asked.money(value) for name, value in zip(names, row.categories, strict=True)},
        **figures_of("open", "weighted_open", "weighted", "commit_forecast", "best_case_forecast", "quota"),
        "quota_set": asked.money(row.target.own),
        "quota_of_parts": asked.money(row.target.of_parts),
        **figures_of("call", "attainment", "gap", "coverage", "overdue", "overdue_before", "undated"),
        **figures_of("deals_won", "deals_open"),
    }


def _attainment(asked: FiguresQuery) -> list[Row]:
    found = attainment(asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by)
    return [
        {
            "key": row.forecast.key,
            "name": row.forecast.name,
            **_plain(asked, row, "quota", "pace", "won", "attainment"),
            "attainment_to_date": row.to_date,
            **_plain(asked, row, "gap", "open"),
        }
        for row in found
    ]


def options_of(asked: FiguresQuery) -> ConversionOptions:
    """The conversion options of a question; raises OptionRefused where only one process may be asked."""
    reference, question = asked.book.reference, asked.question
    if asked.scope.process == NONE:
        if len(reference.processes) != 1:
            keys = ", ".join(sorted(key for key, _ in reference.processes)) or "none is set up yet"
            raise OptionRefused(f"Conversion counts one process at a time; give --process with one of: {keys}.")
        asked.scope = Filter(0, asked.scope.team, asked.scope.person, asked.scope.territory)
    stages = {reference.stages[i].key: i for i in reference.open_stages(asked.scope.process)}
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


def _conversion(asked: FiguresQuery) -> list[Row]:
    options, by = options_of(asked), asked.question.by
    whole = conversion(asked.book, asked.snapshot, asked.period, asked.scope, options)[0]
    asked.extra = {name: getattr(whole.totals, name) for name in SCOPE_FIGURES}
    if by == "company":
        return [_stage_row(asked, stage) for stage in whole.stages]
    groups = conversion(asked.book, asked.snapshot, asked.period, asked.scope, options, by)
    return [
        {**_stage_row(asked, stage), "group": group.key, "group_name": group.name}
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


def _stage_row(asked: FiguresQuery, row: StageReach) -> Row:
    stage = asked.book.reference.stages[row.stage]
    return {
        "key": stage.key,
        "name": stage.name,
        "reached": row.reached,
        "value": asked.money(row.value),
        "step": row.step,
        "step_low": row.step_interval.low if row.step_interval else None,
        "step_high": row.step_interval.high if row.step_interval else None,
        "from_start": row.from_start,
    }


def _time_in_stage(asked: FiguresQuery) -> list[Row]:
    groups = time_in_stage(asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by)
    rows = []
    for group in groups:
        shown = {} if asked.question.by == "company" else {"group": group.key, "group_name": group.name}
        rows += [{**_time_row(asked, stage), **shown} for stage in group.stages]
    return rows


def _time_row(asked: FiguresQuery, row: StageTime) -> Row:
    stage = asked.book.reference.stages[row.stage]
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


def _days_to_win(asked: FiguresQuery) -> list[Row]:
    rows = days_to_win(asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by)
    asked.extra = {"without_history": sum(row.without_history for row in rows)}
    return [
        {"key": row.key, "name": row.name, "deals": row.deals, "mean": row.mean, "median": row.median} for row in rows
    ]


def _range(asked: FiguresQuery) -> list[Row]:
    """Outcome of each node: for a person credited parts, whole deals' outcome."""
    by = asked.question.by
    lines = forecast_lines(asked.book, asked.snapshot, asked.period, asked.scope, by)
    rows = []
    for row in forecast(asked.book, asked.snapshot, asked.period, asked.scope, by):
        found = outcome_of_lines(lines, lines_inside(asked.book, lines, by, row.node))
        rows.append(
            {
                "key": row.key,
                "name": row.name,
                "won": asked.money(found.won_minor),
                **{f"p{q}": asked.money(found.quantile(q / 100)) for q in (10, 50, 90)},
                "mean": asked.money(found.mean_minor),
                "chance_of_quota": found.chance_of(row.quota),
                "step": asked.money(found.step_minor),
            }
        )
    return rows


def _bridge(asked: FiguresQuery) -> list[Row]:
    question = asked.question
    if question.since is None:
        raise OptionRefused("A bridge needs the earlier day; give --from YYYY-MM-DD.")
    if question.since > question.as_of:
        raise OptionRefused(
            f"--from {question.since} is after --as-of {question.as_of}. Choose an earlier --from date."
        )
    if question.by != "company":
        raise OptionRefused("The bridge has causes as rows. Use --by company, with --team, --person or other filters.")
    before = asked.book.as_of(question.since)
    rows = bridge(asked.book, before, asked.snapshot, asked.period, asked.scope, question.measure)
    asked.extra = {"from": question.since.isoformat(), "measure": question.measure}
    return [{"key": r.cause, "name": r.cause, "amount": asked.money(r.amount_minor), "deals": r.deals} for r in rows]


def _probability_check(asked: FiguresQuery) -> list[Row]:
    stages = asked.book.reference.stages
    rows = []
    for group in probability_check(asked.book, asked.snapshot, asked.period, asked.scope, asked.question.by):
        shown = {} if asked.question.by == "company" else {"group": group.key, "group_name": group.name}
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
