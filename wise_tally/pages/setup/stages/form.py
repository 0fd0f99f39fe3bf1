"""The stages as typed: every value kept, every fault beside its field, every value that somebody else changed meanwhile."""

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date, datetime

from wise_tally.domain.formats import bare, day
from wise_tally.domain.org.typed_days import typed_day as read_typed_day
from wise_tally.domain.process.actions import RuleInForce, StageEdit, rule_in_force
from wise_tally.domain.process.models import Category, Stage, StageKind
from wise_tally.domain.typed_numbers import typed_days, typed_percent

TYPED = ("name", "probability", "category", "typical_days")
TICKED = ("own_probability", "required")
WORDS = {
    "name": "name",
    "probability": "probability",
    "category": "category",
    "typical_days": "typical days",
    "own_probability": "own probability",
    "required": "required",
}


@dataclass
class StageRow:
    """One stage with its values as text; ticks are `on` or empty."""

    stage: Stage
    values: dict[str, str]
    expected: str
    faults: dict[str, str] = field(default_factory=dict)

    @classmethod
    def saved(cls, stage: Stage, rule: RuleInForce) -> "StageRow":
        """The row as it is kept."""
        values = {
            "name": stage.name,
            "probability": bare(rule.probability_bp),
            "category": rule.category.key if rule.category else "",
            "typical_days": bare(rule.typical_days_hundredths),
            "own_probability": "on" if stage.own_probability else "",
            "required": "on" if stage.required else "",
        }
        return cls(stage, values, json.dumps(values, ensure_ascii=False))

    @property
    def is_open(self) -> bool:
        """Whether probability, category and typical days may be set."""
        return str(self.stage.kind) == StageKind.OPEN


@dataclass
class StageForm:
    """All rows, the day from which they shall hold, what is wrong."""

    rows: list[StageRow]
    edits: list[StageEdit]
    typed_day: str
    from_on: date | None
    faults: dict[str, str]


def saved_rows(stages: list[Stage], now: datetime) -> list[StageRow]:
    """The rows as they are kept now."""
    return [StageRow.saved(stage, rule_in_force(stage, now)) for stage in stages]


def read_stage_form(posted: Mapping[str, str], stages: list[Stage], today: date, now: datetime) -> StageForm:
    """Read the typed stages; faults are keyed by field, such as `probability:ns_offer`."""
    typed_day = posted.get("from_on", "").strip()
    form = StageForm([], [], typed_day, None, {})
    from_on = read_typed_day(typed_day)
    if isinstance(from_on, date) and from_on >= today:
        form.from_on = from_on
    else:
        form.faults["from_on"] = f"“{typed_day[:40]}” is not valid. Choose today ({day(today)}) or a later date."
    categories = {category.key: category for category in Category.objects.all()}
    for saved in saved_rows(stages, now):
        row = _typed_row(posted, saved)
        _read_row(row, form, categories)
        form.rows.append(row)
    return form


def _typed_row(posted: Mapping[str, str], saved: StageRow) -> StageRow:
    """What was typed over what is kept; a value that both this person and another changed is a fault that shows both."""
    key = saved.stage.key
    names = [*TYPED, *TICKED] if saved.is_open else ["name"]
    typed = saved.values | {name: posted.get(f"{name}:{key}", "").strip() for name in names}
    row = StageRow(saved.stage, typed, saved.expected)
    try:
        expected: dict[str, str] = dict(json.loads(posted.get(f"expected:{key}", "") or saved.expected))
    except (ValueError, TypeError):
        expected = saved.values
    for name in names:
        there = saved.values[name]
        if expected.get(name) in (there, None) or typed[name] == there:
            continue
        if typed[name] == expected.get(name):
            typed[name] = there
        else:
            row.faults[name] = (
                f"Somebody else has changed the {WORDS[name]} of {saved.stage.name} to “{there}”; you entered"
                f" “{typed[name]}”. Save again to overwrite."
            )
    return row


def _read_row(row: StageRow, form: StageForm, categories: dict[str, Category]) -> None:
    values = row.values
    if not values["name"] or len(values["name"]) > 200:
        row.faults["name"] = "A stage needs a name of 1 to 200 characters."
    if any(other.values["name"].casefold() == values["name"].casefold() for other in form.rows):
        row.faults["name"] = f"Two stages have the name “{values['name']}”. Give each stage its own name."
    if not row.is_open:
        probability: int | str = row.stage.probability_bp
        days: int | str | None = None
    else:
        probability, days = typed_percent(values["probability"]), typed_days(values["typical_days"])
    if isinstance(probability, str):
        row.faults["probability"] = probability
    if isinstance(days, str):
        row.faults["typical_days"] = days
    if values["category"] and values["category"] not in categories:
        row.faults["category"] = (
            f"This is not a category. Choose one of: {', '.join(c.name for c in categories.values())}."
        )
    form.faults |= {f"{name}:{row.stage.key}": text for name, text in row.faults.items()}
    if not row.faults and isinstance(probability, int) and not isinstance(days, str):
        category = categories.get(values["category"])
        ticks = (values["own_probability"] == "on", values["required"] == "on")
        form.edits.append(StageEdit(row.stage, values["name"], probability, category, days, *ticks))
