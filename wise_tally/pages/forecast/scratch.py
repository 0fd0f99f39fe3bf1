"""The scratch copy of somebody's what-if: kept with the sign-in, read and typed; nothing of it is in the book."""

from dataclasses import dataclass
from datetime import date
from typing import Any

from django.http import HttpRequest

from wise_tally.core.ground import OPEN
from wise_tally.core.what_if import OUTCOMES, Supposed, WhatIf
from wise_tally.domain.formats import currency_decimals
from wise_tally.domain.typed_numbers import typed_money, typed_percent
from wise_tally.web.filter_line import ScopeLine

KEPT = "what_if"
MOST = 200


@dataclass
class Scratch:
    """What is supposed, as the session holds it: deals and stages by identifier."""

    deals: dict[str, dict[str, Any]]
    stages: dict[str, int]

    @classmethod
    def of(cls, request: HttpRequest) -> "Scratch":
        """The viewer's scratch copy."""
        kept = request.session.get(KEPT, {})
        return cls(dict(kept.get("deals", {})), dict(kept.get("stages", {})))

    def keep(self, request: HttpRequest) -> None:
        """Keep it with the sign-in."""
        request.session[KEPT] = {"deals": self.deals, "stages": self.stages}

    @property
    def is_empty(self) -> bool:
        """Whether nothing is supposed."""
        return not self.deals and not self.stages

    def for_core(self, line: ScopeLine) -> WhatIf:
        """What the core takes: by index, days as ordinals."""
        places = line.book.places_by_key
        stages = {stage.key: index for index, stage in enumerate(line.book.ground.stages)}
        return WhatIf(
            {places[key]: _supposed(values) for key, values in self.deals.items() if key in places},
            {stages[key]: probability for key, probability in self.stages.items() if key in stages},
        )

    def wishes(self) -> dict[str, tuple[int, Supposed]]:
        """What applying takes: the revision seen and the wish of each deal."""
        return {key: (values["seen"], _supposed(values)) for key, values in self.deals.items()}


def _supposed(values: dict[str, Any]) -> Supposed:
    close = date.fromisoformat(values["close"]).toordinal() if values.get("close") else None
    return Supposed(values.get("outcome", ""), values.get("amount"), close, values.get("probability"))


def read_typed(request: HttpRequest, line: ScopeLine, scratch: Scratch, seen: dict[str, int]) -> list[str]:
    """Put what was typed into the scratch copy; returns what was wrong, and then what is accepted.

    `seen` holds the revision of each deal that the page lists. A field left empty or as it is supposes nothing.
    """
    wrong: list[str] = []
    for key, revision in seen.items():
        if f"outcome:{key}" not in request.POST:
            continue
        values = _typed_deal(request, line, key, wrong)
        if values:
            scratch.deals[key] = {"seen": revision, **values}
        else:
            scratch.deals.pop(key, None)
    if len(scratch.deals) > MOST:
        wrong.append(f"{len(scratch.deals)} deals are too many for one what-if; accepted: up to {MOST}.")
    rules = line.book.ground.rules_on(line.as_of)
    for stage, rule in zip(line.book.ground.stages, rules, strict=True):
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


def _typed_deal(request: HttpRequest, line: ScopeLine, key: str, wrong: list[str]) -> dict[str, Any]:
    """What is supposed of a deal: only what differs from how it stands."""
    at = int(line.standing.deal.searchsorted(line.book.places_by_key[key]))
    standing = line.standing
    found: dict[str, Any] = {}
    outcome = request.POST.get(f"outcome:{key}", "")
    if outcome in OUTCOMES:
        found["outcome"] = outcome
    amount = request.POST.get(f"amount:{key}", "").strip()
    value = typed_money(amount, currency_decimals()) if amount else int(standing.amount_minor[at])
    close = request.POST.get(f"close:{key}", "").strip()
    chance = request.POST.get(f"probability:{key}", "").strip()
    percent = typed_percent(chance) if chance else int(standing.probability_bp[at])
    for wrong_words in (value, percent):
        if isinstance(wrong_words, str):
            wrong.append(wrong_words)
    if isinstance(value, int) and value != standing.amount_minor[at]:
        found["amount"] = value
    if isinstance(percent, int) and percent != standing.probability_bp[at]:
        found["probability"] = percent
    try:
        day = date.fromisoformat(close).toordinal() if close else int(standing.expected_close[at])
        if day != standing.expected_close[at]:
            found["close"] = close
    except ValueError:
        wrong.append(f"“{close[:40]}” is not a date; accepted: YYYY-MM-DD.")
    return found
