"""The stages as typed: every value kept, every fault beside its field."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date

from wise_tally.process.actions import RuleInForce, StageEdit
from wise_tally.process.models import Category, Stage, StageKind
from wise_tally.ui.numbers import typed_days, typed_percent
from wise_tally.ui.templatetags.figures import bare

TYPED = ("name", "probability", "category", "typical_days")


@dataclass
class StageRow:
    """One stage with its values as text."""

    stage: Stage
    name: str
    probability: str
    category: str
    typical_days: str
    faults: dict[str, str] = field(default_factory=dict)

    @classmethod
    def kept(cls, stage: Stage, rule: RuleInForce) -> "StageRow":
        """The row as it is kept."""
        category = rule.category.key if rule.category else ""
        return cls(stage, stage.name, bare(rule.probability_bp), category, bare(rule.typical_days_hundredths))

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


def read_stage_form(posted: Mapping[str, str], stages: list[Stage], today: date) -> StageForm:
    """Read the typed stages; faults are keyed by field, such as `probability:ns_offer`."""
    typed_day = posted.get("from_on", "").strip()
    form = StageForm([], [], typed_day, None, {})
    try:
        form.from_on = date.fromisoformat(typed_day)
        if form.from_on < today or form.from_on.year > 2199 or len(typed_day) != 10:
            raise ValueError
    except ValueError:
        form.faults["from_on"] = f"“{typed_day[:40]}” is not accepted; accepted: {today} or a later day as YYYY-MM-DD."
    categories = {category.key: category for category in Category.objects.all()}
    for stage in stages:
        name, probability, category, days = (posted.get(f"{n}:{stage.key}", "").strip() for n in TYPED)
        row = StageRow(stage, name, probability, category, days)
        _read_row(row, form, categories)
        form.rows.append(row)
    return form


def _read_row(row: StageRow, form: StageForm, categories: dict[str, Category]) -> None:
    if not row.name or len(row.name) > 200:
        row.faults["name"] = "A stage needs a name of 1 to 200 characters."
    if not row.is_open:
        probability: int | str = row.stage.probability_bp
        days: int | str | None = None
    else:
        probability, days = typed_percent(row.probability), typed_days(row.typical_days)
    if isinstance(probability, str):
        row.faults["probability"] = probability
    if isinstance(days, str):
        row.faults["typical_days"] = days
    if row.category and row.category not in categories:
        row.faults["category"] = f"This is not a category; accepted: {', '.join(c.name for c in categories.values())}."
    form.faults |= {f"{name}:{row.stage.key}": text for name, text in row.faults.items()}
    if not row.faults and isinstance(probability, int) and not isinstance(days, str):
        form.edits.append(StageEdit(row.stage, row.name, probability, categories.get(row.category), days))
