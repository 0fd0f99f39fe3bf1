"""The scratch copy of somebody's what-if: kept with the sign-in, read and typed; nothing of it is in the book."""

from dataclasses import dataclass
from datetime import date
from typing import Any

from wise_tally.core.reference_data import OPEN
from wise_tally.core.what_if import OUTCOMES, Supposed, WhatIf
from wise_tally.domain.formats import currency_decimals, plural
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.typed_numbers import typed_money, typed_percent
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.request.viewing import PageRequest

IN_SESSION = "what_if"
MOST = 200


@dataclass
class Scratch:
    """What is supposed, as the session holds it: deals and stages by identifier."""

    deals: dict[str, dict[str, Any]]
    stages: dict[str, int]

    @classmethod
    def of(cls, request: PageRequest) -> "Scratch":
        """The viewer's scratch copy."""
        saved = request.session.get(IN_SESSION, {})
        return cls(dict(saved.get("deals", {})), dict(saved.get("stages", {})))

    def keep(self, request: PageRequest) -> None:
        """Keep it with the sign-in."""
        request.session[IN_SESSION] = {"deals": self.deals, "stages": self.stages}

    @property
    def is_empty(self) -> bool:
        """Whether nothing is supposed."""
        return not self.deals and not self.stages

    @property
    def in_words(self) -> str:
        """How many deals and stages are changed."""
        numbers = ((len(self.deals), "deal"), (len(self.stages), "stage"))
        return " and ".join(plural(number, noun) for number, noun in numbers if number)

    def for_core(self, line: FilterLine) -> WhatIf:
        """What the core takes: by index, days as ordinals."""
        index_of = line.book.index_by_key
        stages = {stage.key: index for index, stage in enumerate(line.book.reference.stages)}
        return WhatIf(
            {index_of[key]: _supposed(values) for key, values in self.deals.items() if key in index_of},
            {stages[key]: probability for key, probability in self.stages.items() if key in stages},
        )

    def wishes(self) -> dict[str, tuple[int, Supposed]]:
        """What applying takes: the revision expected and the wish of each deal."""
        return {key: (values["seen"], _supposed(values)) for key, values in self.deals.items()}


def _supposed(values: dict[str, Any]) -> Supposed:
    close = date.fromisoformat(values["close"]).toordinal() if values.get("close") else None
    return Supposed(values.get("outcome", ""), values.get("amount"), close, values.get("probability"))


def read_typed(request: PageRequest, line: FilterLine, scratch: Scratch, expected: dict[str, int]) -> list[str]:
    """Put what was typed into the scratch copy; returns what was wrong, and then what is accepted.

    `expected` holds the revision of each deal that the page lists. A field left empty or as it is supposes nothing.
    """
    wrong: list[str] = []
    for key, revision in expected.items():
        if f"outcome:{key}" not in request.POST:
            continue
        values = _typed_deal(request, line, key, wrong)
        if values:
            scratch.deals[key] = {"seen": revision, **values}
        else:
            scratch.deals.pop(key, None)
    if len(scratch.deals) > MOST:
        wrong.append(f"Too many deals in one scenario ({len(scratch.deals)}). Use up to {MOST}.")
    rules = line.book.reference.rules_on(line.as_of)
    for stage, rule in zip(line.book.reference.stages, rules, strict=True):
        if f"stage:{stage.key}" not in request.POST:
            continue
        text = request.POST[f"stage:{stage.key}"].strip()
        value = typed_percent(text) if text and stage.kind == OPEN else rule.probability_bp
        if isinstance(value, str):
            wrong.append(f"{stage.name}: {value}")
        elif value == rule.probability_bp:
            scratch.stages.pop(stage.key, None)
        else:
            scratch.stages[stage.key] = value
    return wrong


def _typed_deal(request: PageRequest, line: FilterLine, key: str, wrong: list[str]) -> dict[str, Any]:
    """What is supposed of a deal: only what differs from its present state."""
    row = int(line.snapshot.deal.searchsorted(line.book.index_by_key[key]))
    snapshot = line.snapshot
    supposed: dict[str, Any] = {}
    outcome = request.POST.get(f"outcome:{key}", "")
    if outcome in OUTCOMES:
        supposed["outcome"] = outcome
    amount = request.POST.get(f"amount:{key}", "").strip()
    value = typed_money(amount, currency_decimals()) if amount else int(snapshot.amount_minor[row])
    close = request.POST.get(f"close:{key}", "").strip()
    chance = request.POST.get(f"probability:{key}", "").strip()
    percent = typed_percent(chance) if chance else int(snapshot.probability_bp[row])
    day = typed_day(close) if close else None
    for wrong_words in (value, percent, day):
        if isinstance(wrong_words, str):
            wrong.append(wrong_words)
    if isinstance(value, int) and value != snapshot.amount_minor[row]:
        supposed["amount"] = value
    if isinstance(percent, int) and percent != snapshot.probability_bp[row]:
        supposed["probability"] = percent
    if isinstance(day, date) and day.toordinal() != snapshot.expected_close[row]:
        supposed["close"] = day.isoformat()
    return supposed
