"""workspace.json: what belongs to a workspace and is no table. Described by one JSON Schema, made from the parts below."""

import base64
import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import jsonschema
from django.db import models

from wise_tally.domain.dashboards import models as boards
from wise_tally.domain.deals import models as deals
from wise_tally.domain.org import models as org
from wise_tally.domain.process import models as process
from wise_tally.domain.targets import models as targets
from wise_tally.package.faults import Report
from wise_tally.package.tables import SUBJECTS, TABLES

FILE = "workspace.json"
ID = {"type": "string", "minLength": 1, "maxLength": 64}
NAME = {"type": "string", "minLength": 1, "maxLength": 200}
TEXT = {"type": "string", "maxLength": 10_000}
# A member with a default may be left out.
RETIRED = {"type": "boolean", "default": False}
DAY = {"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}$"}
DAY_OR_NONE = {"type": ["string", "null"], "pattern": r"^\d{4}-\d{2}-\d{2}$"}
MOMENT = {"type": "string", "format": "date-time"}
CURVE = {"type": "array", "items": {"type": "integer", "minimum": 0, "maximum": 10_000}, "minItems": 12, "maxItems": 12}
SUBJECT = {"enum": list(SUBJECTS)}
METRIC = {"enum": list(targets.Metric.values)}
DOCUMENT = {"enum": list(process.Document.values)}


@dataclass(frozen=True)
class Part:
    """A list of records: `identity` identifies them; `refs` are members that name a row of a table or another list."""

    model: type[models.Model]
    identity: tuple[str, ...]
    members: dict[str, dict[str, Any]]
    refs: dict[str, str]

    def attribute(self, member: str) -> str:
        """The model's attribute of a member."""
        return "key" if member == "id" else member


PARTS = {
    "deal_types": Part(process.DealType, ("id",), {"id": ID, "name": NAME, "group": TEXT, "retired": RETIRED}, {}),
    "sources": Part(process.Source, ("id",), {"id": ID, "name": NAME, "retired": RETIRED}, {}),
    "lost_reasons": Part(process.LostReason, ("id",), {"id": ID, "name": NAME, "retired": RETIRED}, {}),
    "openings": Part(
        org.Opening, ("person", "team"), {"person": ID, "team": ID}, {"person": "people", "team": "teams"}
    ),
    "entry_checks": Part(
        process.EntryCheck,
        ("stage", "position"),
        {"stage": ID, "position": {"type": "integer", "minimum": 1}, "text": TEXT},
        {"stage": "stages"},
    ),
    "stage_guides": Part(
        process.StageGuide,
        ("stage",),
        {"stage": ID, "text": {"type": "string"}, "checklist": {"type": "string"}, "activities": {"type": "string"}},
        {"stage": "stages"},
    ),
    "stage_files": Part(
        process.StageFile,
        ("stage", "name"),
        {"stage": ID, "name": NAME, "content": {"type": "string", "contentEncoding": "base64"}},
        {"stage": "stages"},
    ),
    "notices": Part(
        process.StageNotice,
        ("id",),
        {
            "id": ID,
            "stage": ID,
            "recipients": {"type": "string"},
            "subject": NAME,
            "body": {"type": "string"},
            "document": DOCUMENT,
        },
        {"stage": "stages"},
    ),
    "deal_answers": Part(
        deals.DealAnswer,
        ("deal", "question"),
        {"deal": ID, "question": TEXT, "answer": TEXT, "by": {"type": "string", "maxLength": 64}, "at": MOMENT},
        {"deal": "deals"},
    ),
    "files": Part(
        deals.KeptFile,
        ("id",),
        {
            "id": ID,
            "deal": ID,
            "name": NAME,
            "at": MOMENT,
            "by": {"type": "string", "maxLength": 64},
            "content": {"type": "string", "contentEncoding": "base64"},
        },
        {"deal": "deals"},
    ),
    "saved_views": Part(
        deals.SavedView,
        ("id",),
        {
            "id": ID,
            "name": NAME,
            "owner": ID,
            "shared": {"type": "boolean"},
            "starts": {"type": "boolean"},
            "query": TEXT,
        },
        {"owner": "people"},
    ),
    "preferences": Part(
        org.Preference,
        ("person", "name"),
        {"person": ID, "name": {"type": "string", "minLength": 1, "maxLength": 64}, "value": TEXT},
        {"person": "people"},
    ),
    "meetings": Part(
        org.Meeting,
        ("by", "person_key", "held_on"),
        {"by": ID, "person_key": {"type": "string", "maxLength": 64}, "held_on": DAY, "notes": {"type": "string"}},
        {"by": "people"},
    ),
    "agreed_actions": Part(
        org.AgreedAction,
        ("id",),
        {
            "id": ID,
            "person_key": ID,
            "by": ID,
            "agreed_on": DAY,
            "text": TEXT,
            "due_on": DAY_OR_NONE,
            "done_on": DAY_OR_NONE,
        },
        {"by": "people"},
    ),
    "rates_above_quota": Part(
        org.RateAboveQuota,
        ("person", "from_on"),
        {"person": ID, "from_on": DAY, "rate_bp": {"type": "integer", "minimum": 0, "maximum": 10_000}},
        {"person": "people"},
    ),
    "contact_intervals": Part(
        deals.ContactInterval,
        ("subject", "subject_key"),
        {
            "subject": {"enum": ["process", "industry"]},
            "subject_key": NAME,
            "days": {"type": "integer", "minimum": 1, "maximum": 1_000},
        },
        {},
    ),
    "commission_statements": Part(
        targets.CommissionStatement,
        ("subject", "subject_key", "starts_on", "ends_on", "issued_at"),
        {
            "subject": {"enum": ["person", "partner"]},
            "subject_key": ID,
            "starts_on": DAY,
            "ends_on": DAY,
            "issued_at": MOMENT,
            "issued_by": {"type": "string", "maxLength": 64},
            "lines": {"type": "array"},
        },
        {},
    ),
    "tallies": Part(
        boards.Tally,
        ("id",),
        {
            "id": ID,
            "name": NAME,
            "owner": ID,
            "shared": {"type": "boolean"},
            "query": {"type": "string", "maxLength": 2_000},
        },
        {"owner": "people"},
    ),
    "dashboards": Part(
        boards.Dashboard,
        ("id",),
        {
            "id": ID,
            "name": NAME,
            "owner": ID,
            "audience": {"type": "string", "maxLength": 80},
            "starts": {"type": "boolean"},
        },
        {"owner": "people"},
    ),
    "tiles": Part(
        boards.Tile,
        ("dashboard", "place"),
        {"dashboard": ID, "place": {"type": "integer", "minimum": 0}, "tally": ID, "wide": {"type": "boolean"}},
        {"dashboard": "dashboards"},
    ),
    "season_curves": Part(targets.SeasonCurve, ("id",), {"id": ID, "name": NAME, "months_bp": CURVE}, {}),
    "custom_periods": Part(
        targets.CustomPeriod, ("id",), {"id": ID, "name": NAME, "starts_on": DAY, "ends_on": DAY}, {}
    ),
    "quota_holds": Part(
        targets.QuotaHold,
        ("subject", "subject_key", "metric", "starts_on", "ends_on"),
        {
            "subject": SUBJECT,
            "subject_key": {"type": "string", "maxLength": 64},
            "metric": METRIC,
            "starts_on": DAY,
            "ends_on": DAY,
        },
        {},
    ),
}
# Lists whose names are unique.
NAMED = ("deal_types", "sources", "lost_reasons", "season_curves")
SETTINGS: dict[str, dict[str, Any]] = {
    "reps_see_team": {"type": "boolean"},
    "all_see_unowned": {"type": "boolean"},
    # A name a line, from the second on with where the class begins.
    "not_reached_message": {"type": "string"},
    "customer_sizes": {
        "type": "string",
        "maxLength": 10_000,
        "pattern": r"^[^\n:]+(\n[^\n:]+: \d{1,11}(\.\d{1,4})?)*$",
    },
    "calls_due_on": {"type": ["integer", "null"], "minimum": 0, "maximum": 6},
    "decimal_sign": {"enum": [".", ","]},
    "day_order": {"enum": ["dmy", "mdy"]},
}


def schema() -> dict[str, Any]:
    """The JSON Schema of the file."""

    def record(part: Part) -> dict[str, Any]:
        return {
            "type": "object",
            "properties": part.members,
            "required": [name for name, form in part.members.items() if "default" not in form],
            "additionalProperties": False,
        }

    lists = {name: {"type": "array", "items": record(part)} for name, part in PARTS.items()}
    settings = {"type": "object", "properties": SETTINGS, "additionalProperties": False}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What belongs to a workspace and is no table",
        "type": "object",
        "properties": {"settings": settings, **lists},
        "additionalProperties": False,
    }


def write_file(folder: Path) -> None:
    """Write the file; the same workspace always gives the same bytes."""
    workspace = org.Workspace.current()
    content: dict[str, Any] = {"settings": {name: getattr(workspace, name) for name in SETTINGS}}
    for name, part in PARTS.items():
        paths = [part.attribute(member) + ("__key" if member in part.refs else "") for member in part.members]
        order = [paths[list(part.members).index(member)] for member in part.identity]
        rows = part.model._default_manager.order_by(*order).values_list(*paths)
        content[name] = [dict(zip(part.members, map(_plain, row), strict=True)) for row in rows]
    text = json.dumps(content, indent=1, ensure_ascii=False) + "\n"
    (folder / FILE).write_text(text, encoding="utf-8")


def _plain(value: Any) -> Any:
    if isinstance(value, bytes | memoryview):
        return base64.b64encode(bytes(value)).decode()
    return value.isoformat() if isinstance(value, date | datetime) else value


def read_file(folder: Path, known: Callable[[str], set[str]], report: Report) -> dict[str, Any] | None:
    """The file's content; every fault goes to the report. None where there is no such file."""
    path = folder / FILE
    if not path.exists():
        return None
    try:
        content = json.loads(path.read_bytes().decode("utf-8-sig"))
    except (OSError, ValueError, RecursionError) as error:
        report.add(FILE, 0, "", f"the file cannot be read ({str(error)[:80]})", "JSON as docs/exchange.md describes it")
        return None
    checker = jsonschema.Draft202012Validator(schema())
    faults = sorted(checker.iter_errors(content), key=lambda error: list(map(str, error.absolute_path)))
    for fault in faults:
        report.add(
            FILE, 0, "/".join(map(str, fault.absolute_path)), fault.message[:200], "the schema in docs/exchange.md"
        )
    if faults:
        return None

    def known_of(name: str) -> set[str]:
        if name not in PARTS:
            return known(name)
        there = set(PARTS[name].model._default_manager.values_list("key", flat=True))
        return there | {record["id"] for record in content.get(name, [])}

    for name, part in PARTS.items():
        _check_part(name, part, content.get(name, []), known_of, report)
    return content  # type: ignore[no-any-return]


def _check_part(
    name: str, part: Part, records: list[dict[str, Any]], known: Callable[[str], set[str]], report: Report
) -> None:
    identities: set[tuple[Any, ...]] = set()
    for index, record in enumerate(records):
        identity = tuple(record[member] for member in part.identity)
        if identity in identities:
            report.add(FILE, 0, f"{name}/{index}", f"{identity} appears twice", "each once")
        identities.add(identity)
        if name in NAMED and part.model._default_manager.filter(name=record["name"]).exclude(key=record["id"]).exists():
            report.add(
                FILE, 0, f"{name}/{index}/name", f"“{record['name'][:40]}” is there already", "a name of its own"
            )
        for member, table in part.refs.items():
            if record[member] not in known(table):
                report.add(
                    FILE, 0, f"{name}/{index}/{member}", f"“{record[member][:64]}” is not there", f"one of {table}"
                )
        for member, form in part.members.items():
            if form in (DAY, DAY_OR_NONE, MOMENT) and record[member] is not None and _moment(record[member]) is None:
                report.add(FILE, 0, f"{name}/{index}/{member}", f"“{record[member][:40]}” is no date", "ISO 8601")


def _moment(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return None


def take_file(content: dict[str, Any]) -> None:
    """Put the records where they belong: known ones are updated, new ones added, nothing is deleted."""
    if settings := content.get("settings"):
        workspace = org.Workspace.current()
        for name in SETTINGS:
            setattr(workspace, name, settings.get(name, getattr(workspace, name)))
        workspace.save()
    for name, part in PARTS.items():
        for record in content.get(name, []):
            values = {part.attribute(member): _stored(part, member, value) for member, value in record.items()}
            identity = {part.attribute(member): values.pop(part.attribute(member)) for member in part.identity}
            part.model._default_manager.update_or_create(**identity, defaults=values)


def _stored(part: Part, member: str, value: Any) -> Any:
    if member in part.refs:
        table = part.refs[member]
        model = PARTS[table].model if table in PARTS else TABLES[table].model
        assert model is not None
        return model._default_manager.get(key=value)
    form = part.members[member]
    if form is DAY or (form is DAY_OR_NONE and value is not None):
        return date.fromisoformat(value)
    if form is MOMENT:
        return datetime.fromisoformat(value).astimezone(UTC)
    return base64.b64decode(value) if "contentEncoding" in form else value
