"""Checks of single tables: settings, ranks, spans, subjects, quotas, deals, revisions, shares, own fields."""

from collections import defaultdict
from collections.abc import Iterable
from typing import Any

from babel.numbers import list_currencies

from wise_tally.domain.formats import plural
from wise_tally.domain.org.models import Workspace
from wise_tally.domain.targets.models import MONEY_METRICS
from wise_tally.package.cells import NUMBER, shown
from wise_tally.package.checker import Check, Checker
from wise_tally.package.parse import BAD, Parsed
from wise_tally.package.tables import STATE_COLUMNS, TABLES

SETTINGS = ("organisation", "currency", "time_zone", "fiscal_year_start_month")


def _settings(check: Checker, parsed: Parsed) -> None:
    for index, (key, value) in enumerate(zip(parsed.get("key"), parsed.get("value"), strict=True)):
        if BAD in (key, value):
            continue
        if key not in SETTINGS:
            check.fault(parsed, index, "key", f"{shown(key)} is not accepted", "one of " + " / ".join(SETTINGS))
        elif key == "currency" and not known_currency(value):
            check.fault(parsed, index, "value", f"{shown(value)} is not a currency", "an ISO 4217 code such as EUR")
        elif key == "time_zone" and value not in time_zones():
            check.fault(
                parsed, index, "value", f"{shown(value)} is not a time zone", "an IANA name such as Europe/Dublin"
            )
        elif key == "fiscal_year_start_month" and value not in [str(month) for month in range(1, 13)]:
            right = "a whole number from 1 to 12; a fiscal year starts on the first of a month"
            check.fault(parsed, index, "value", f"{shown(value)} is not a month", right)
        elif key == "organisation" and len(value) > 200:
            check.fault(parsed, index, "value", f"the name has {len(value)} characters", "at most 200 characters")
        elif key == "currency" and _currency_fixed(value):
            right = "the currency already kept while there is money"
            check.fault(
                parsed, index, "value", f"{shown(value)} has other decimals than the currency of the deals there", right
            )


def known_currency(code: str) -> bool:
    """Whether this is an ISO 4217 code."""
    return code in list_currencies()


def time_zones() -> set[str]:
    """All IANA time zones of this machine."""
    from zoneinfo import available_timezones

    return available_timezones()


def _currency_fixed(code: str) -> bool:
    from babel.numbers import get_currency_precision

    workspace = Workspace.objects.first()
    revisions = TABLES["deal_revisions"].model
    assert revisions is not None
    if workspace is None or not revisions._default_manager.exists():
        return False
    return get_currency_precision(code) != get_currency_precision(workspace.currency)


def _ranks(check: Checker, parsed: Parsed) -> None:
    model = parsed.table.model
    assert model is not None
    ranks = dict(model._default_manager.values_list("key", "rank"))
    for index, (key, rank) in enumerate(zip(parsed.get("category_id"), parsed.get("rank"), strict=True)):
        if BAD in (key, rank):
            continue
        ranks[key] = rank
        if list(ranks.values()).count(rank) > 1 and any(
            r == rank and k != key and k in parsed.get("category_id")[:index] for k, r in ranks.items()
        ):
            check.fault(parsed, index, "rank", f"rank {rank} appears twice", "each rank once")


def _pairs(check: Checker, parsed: Parsed, names: tuple[str, str], wrong: str, right: str) -> None:
    """The second of two ordered columns must not be before the first."""
    for index, (first, second) in enumerate(zip(parsed.get(names[0]), parsed.get(names[1]), strict=True)):
        if BAD not in (first, second) and first is not None and second is not None and second < first:
            check.fault(parsed, index, names[1], wrong, right)


def _spans(check: Checker, parsed: Parsed) -> None:
    _pairs(check, parsed, ("starts_on", "ends_on"), "the end is before the start", "an end not before the start")


def _active(check: Checker, parsed: Parsed) -> None:
    _pairs(
        check, parsed, ("active_from", "active_to"), "the last day is before the first", "a day not before active_from"
    )


def _lead_closed(check: Checker, parsed: Parsed) -> None:
    _pairs(check, parsed, ("created_at", "closed_at"), "closed before it was created", "a moment not before created_at")


def _subjects(check: Checker, parsed: Parsed) -> None:
    plural = {"team": "teams", "person": "people", "territory": "territories", "partner": "partners"}
    for index, (subject, key) in enumerate(zip(parsed.get("subject"), parsed.get("subject_id"), strict=True)):
        if BAD in (subject, key):
            continue
        if subject == "company":
            if key:
                check.fault(parsed, index, "subject_id", f"{shown(key)} is given beside company", "an empty cell")
        elif not key:
            check.fault(parsed, index, "subject_id", "the required cell is empty", f"the identifier of a {subject}")
        elif key not in check.keys(plural[subject]):
            check.fault(
                parsed, index, "subject_id", f"{shown(key)} is not known", f"an identifier of {plural[subject]}.csv"
            )


def _quota_values(check: Checker, parsed: Parsed) -> None:
    """Scale values from four decimals to what the metric keeps: minor units for money, hundredths for others."""
    values = parsed.get("value")
    for index, (metric, value) in enumerate(zip(parsed.get("metric"), values, strict=True)):
        if BAD in (metric, value):
            continue
        money = metric in MONEY_METRICS
        allowed = check.decimals if money else 2 if metric == "quantity" else 0
        if value % 10 ** (4 - allowed):
            right = f"a number with at most {allowed} decimals" if allowed else "a whole number"
            check.fault(parsed, index, "value", "the value has more decimals than allowed", right)
        values[index] = value // 10 ** (4 - (check.decimals if money else 2))


def _quota_overlaps(check: Checker, parsed: Parsed) -> None:
    names = ("subject", "subject_id", "metric", "product_group", "deal_type", "source", "activity_kind")
    spans: dict[tuple[Any, ...], dict[tuple[int, int], int | None]] = defaultdict(dict)
    model = parsed.table.model
    assert model is not None
    stored = model._default_manager.values_list("subject", "subject_key", *names[2:], "starts_on", "ends_on")
    for *subject, start, end in stored:
        spans[tuple(subject)][start.toordinal(), end.toordinal()] = None
    for index, values in enumerate(zip(*map(parsed.get, (*names, "starts_on", "ends_on")), strict=True)):
        if BAD not in values:
            spans[values[:-2]].setdefault(values[-2:], index)
            if spans[values[:-2]][values[-2:]] is None:
                spans[values[:-2]][values[-2:]] = index
    for rows in spans.values():
        latest: tuple[int, int | None] = (0, None)
        for (start, end), row in sorted(rows.items()):
            faulty = row if row is not None else latest[1]
            if latest[0] >= start and faulty is not None:
                check.fault(
                    parsed,
                    faulty,
                    "starts_on",
                    "the span overlaps another of the same subject and metric",
                    "spans that share no day",
                )
            latest = max(latest, (end, row), key=lambda item: item[0])


def _stage_of_process(check: Checker, parsed: Parsed, index: int, column: str, process: str) -> str | None:
    """The kind of the stage named in a cell; a fault where it belongs to another process."""
    key = parsed.get(column)[index]
    if key in (None, BAD) or key not in check.stages:
        return None
    its_process, kind = check.stages[key]
    if process not in (None, BAD) and its_process != process:
        check.fault(
            parsed, index, column, f"{shown(key)} is a stage of another process", f"a stage of process {shown(process)}"
        )
        return None
    return kind


def _deals(check: Checker, parsed: Parsed) -> None:
    with_history = set(check.package["deal_revisions"].get("deal_id")) if "deal_revisions" in check.package else set()
    model = parsed.table.model
    assert model is not None
    there = set(model._default_manager.values_list("key", flat=True))
    states = [parsed.get(name) for name in STATE_COLUMNS]
    for index, key in enumerate(parsed.get("deal_id")):
        empty = all(column[index] in (None, "") for column in states)
        if key in with_history or (key in there and empty):
            continue
        for column in ("stage_id", "amount", "owner_id"):
            if parsed.get(column)[index] is None:
                check.fault(
                    parsed, index, column, "the required cell is empty", "a value or rows in deal_revisions.csv"
                )
        _short_form(check, parsed, index)


def _short_form(check: Checker, parsed: Parsed, index: int) -> None:
    process, created, closed = (parsed.get(name)[index] for name in ("process_id", "created_at", "closed_at"))
    kind = _stage_of_process(check, parsed, index, "stage_id", process)
    if kind in ("won", "lost") and closed is None:
        check.fault(parsed, index, "closed_at", "the required cell is empty", "when the deal was closed")
    if kind == "open" and closed not in (None, BAD):
        check.fault(parsed, index, "closed_at", "the deal is in an open stage", "an empty cell or a closed stage")
    if BAD not in (created, closed) and None not in (created, closed) and closed < created:
        check.fault(parsed, index, "closed_at", "closed before it was created", "a moment not before created_at")
    if _stage_of_process(check, parsed, index, "lost_from_stage_id", process) in ("won", "lost"):
        check.fault(parsed, index, "lost_from_stage_id", "the stage is not open", "an open stage of the process")


def _revisions(check: Checker, parsed: Parsed) -> None:
    model = TABLES["deals"].model
    assert model is not None
    created: dict[Any, int] = {}
    process: dict[Any, str] = {}
    for key, moment, process_key in model._default_manager.values_list("key", "created_at", "process__key"):
        created[key], process[key] = int(moment.timestamp()), process_key
    if deals := check.package.get("deals"):
        created.update(zip(deals.get("deal_id"), deals.get("created_at"), strict=True))
        process.update(zip(deals.get("deal_id"), deals.get("process_id"), strict=True))
    before: dict[str, int] = {}
    own_stage = {key: process_key for key, (process_key, _) in check.stages.items()}
    early = 0
    closes = parsed.get("expected_close")
    for index, (deal, moment, stage) in enumerate(
        zip(parsed.get("deal_id"), parsed.get("effective_at"), parsed.get("stage_id"), strict=True)
    ):
        if moment is BAD or deal is BAD:
            continue
        if own_stage.get(stage, process.get(deal)) != process.get(deal, own_stage.get(stage)):
            _stage_of_process(check, parsed, index, "stage_id", process[deal])
        start = created.get(deal)
        if start is not None and start is not BAD and moment < start:
            check.fault(
                parsed,
                index,
                "effective_at",
                "the revision is before the deal was created",
                "a moment not before created_at",
            )
        if moment < before.get(deal, moment):
            check.fault(
                parsed, index, "effective_at", "the revisions go back in time", "a moment not before the row above"
            )
        before[deal] = moment
        early += (
            closes[index] not in (None, BAD)
            and start not in (None, BAD)
            and (closes[index] - 719_163) * 86_400 < start - 86_400
        )
    if early:
        check.report.notes.append(
            f"deal_revisions.csv: {plural(early, 'row')} expect the close before the deal was created"
        )


def _shares(check: Checker, parsed: Parsed) -> None:
    sums: dict[tuple[Any, Any], list[int]] = {}
    for index, (deal, day, share) in enumerate(zip(*map(parsed.get, ("deal_id", "from_on", "share")), strict=True)):
        if BAD not in (deal, day):
            entry = sums.setdefault((deal, day), [index, 0, 0])
            entry[1] += 0 if share is BAD else share
            entry[2] += share is BAD
    for index, total, unread in sums.values():
        if total != 10_000 and not unread:
            check.fault(parsed, index, "share", f"the shares sum to {total / 100:g}", "shares that sum to 100")


def _times(check: Checker, parsed: Parsed) -> None:
    for index, times in enumerate(parsed.get("times")):
        if times is not BAD and times is not None and times < 1:
            check.fault(parsed, index, "times", f"{times} is not accepted", "a whole number from 1")


def _field_values(check: Checker, parsed: Parsed) -> None:
    model = TABLES["fields"].model
    assert model is not None
    fields = {key: rest for key, *rest in model._default_manager.values_list("key", "applies_to", "kind", "choices")}
    if given := check.package.get("fields"):
        for key, *rest in zip(*map(given.get, ("field_id", "applies_to", "kind", "choices")), strict=True):
            fields[key] = list(rest)
    for index, (field, subject, value) in enumerate(
        zip(*map(parsed.get, ("field_id", "subject_id", "value")), strict=True)
    ):
        if BAD in (field, subject, value) or field not in fields or BAD in fields[field]:
            continue
        applies_to, kind, choices = fields[field]
        if subject not in check.keys(f"{applies_to}s"):
            check.fault(
                parsed, index, "subject_id", f"{shown(subject)} is not known", f"an identifier of {applies_to}s.csv"
            )
        if kind == "choice" and value not in choices.split(";"):
            check.fault(
                parsed, index, "value", f"{shown(value)} is not a choice", "one of " + " / ".join(choices.split(";"))
            )
        if kind == "number" and not NUMBER.fullmatch(value):
            check.fault(
                parsed, index, "value", f"{shown(value)} is not a number", "plain digits with “.” as decimal mark"
            )


def _rate_subjects(check: Checker, parsed: Parsed) -> None:
    _subjects(check, parsed)


CHECKS: dict[str, Iterable[Check]] = {
    "settings": (_settings,),
    "categories": (_ranks,),
    "people": (_active,),
    "leads": (_lead_closed,),
    "quotas": (_subjects, _spans, _quota_values, _quota_overlaps),
    "calls": (_subjects, _spans),
    "commission_rates": (_rate_subjects,),
    "deals": (_deals,),
    "deal_revisions": (_revisions,),
    "deal_credits": (_shares,),
    "payments": (_times,),
    "field_values": (_field_values,),
}
