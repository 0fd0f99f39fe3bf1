"""A deal's revisions as a readable history, and its trail to the scale of days."""

from dataclasses import dataclass
from datetime import date, datetime
from itertools import pairwise

import numpy as np

from wise_tally.core.ground import OPEN
from wise_tally.core.statistics import DAY_SECONDS
from wise_tally.deals.models import Deal, DealRevision
from wise_tally.org.models import Person
from wise_tally.scope.line import ScopeLine
from wise_tally.ui.ink import share
from wise_tally.ui.templatetags.figures import day, money, points


@dataclass(frozen=True)
class Entry:
    """One revision: when, what changed, who, why."""

    at: datetime
    changes: tuple[str, ...]
    who: str
    reason: str
    void: bool


def history(deal: Deal, cut: int) -> list[Entry]:
    """All revisions before the moment `cut`, the newest first; void ones are marked."""
    rows = [
        row
        for row in deal.revisions.select_related("stage", "category", "owner", "territory").order_by("pk")
        if row.effective_at.timestamp() < cut
    ]
    names = dict(Person.objects.filter(key__in={row.changed_by for row in rows}).values_list("key", "name"))
    entries = [
        Entry(r.effective_at, c, names.get(r.changed_by, r.changed_by), r.reason, r.void) for r, c in _changes(rows)
    ]
    return entries[::-1]


def _changes(rows: list[DealRevision]) -> list[tuple[DealRevision, tuple[str, ...]]]:
    if not rows:
        return []
    first = (
        f"came in at {rows[0].stage.name}",
        f"amount {money(rows[0].amount_minor)}",
        f"expected {day(rows[0].expected_close)}",
    )
    return [(rows[0], first), *((now, _difference(then, now)) for then, now in pairwise(rows))]


def _difference(then: DealRevision, now: DealRevision) -> tuple[str, ...]:
    found = []
    if then.stage_id != now.stage_id:
        back = "back: " if now.stage.kind == "open" and now.stage.position < then.stage.position else ""
        found.append(f"{back}{then.stage.name} → {now.stage.name}")
    if then.amount_minor != now.amount_minor:
        found.append(f"amount {money(then.amount_minor)} → {money(now.amount_minor)}")
    if then.expected_close != now.expected_close:
        slipped = _slip(then.expected_close, now.expected_close)
        found.append(f"expected close {day(then.expected_close)} → {day(now.expected_close)}{slipped}")
    if then.owner_id != now.owner_id:
        found.append(f"owner {then.owner.name} → {now.owner.name}")
    if then.territory_id != now.territory_id:
        found.append(f"territory {_name(then.territory)} → {_name(now.territory)}")
    if then.category_id != now.category_id:
        found.append(f"own category {_name(then.category)} → {_name(now.category)}")
    if then.probability_bp != now.probability_bp:
        found.append(f"own probability {points(then.probability_bp)} → {points(now.probability_bp)}")
    if now.lost_reason and now.lost_reason != then.lost_reason:
        found.append(f"lost: {now.lost_reason}")
    return tuple(found) or ("nothing in the state",)


def _slip(then: date | None, now: date | None) -> str:
    if then is None or now is None or now <= then:
        return ""
    return f", slipped {(now - then).days} days"


def _name(thing: object) -> str:
    return getattr(thing, "name", "the stage’s") if thing is not None else "none"


@dataclass(frozen=True)
class TrailStay:
    """A stay drawn to the scale of days."""

    stage: str
    left: str
    width: str
    days: float
    over: float | None
    over_left: str
    over_width: str
    opacity: str
    row: int


@dataclass(frozen=True)
class Trail:
    """The stays of a deal from its creation to the as-of day."""

    stays: tuple[TrailStay, ...]
    short_form: bool


def trail(line: ScopeLine, deal: int) -> Trail:
    """The deal's path through open stages up to the as-of midnight."""
    stays, ground, cut = line.book.stays, line.book.ground, line.standing.cut
    mine = [i for i in range(*_span(line, deal)) if ground.stages[int(stays.stage[i])].kind == OPEN]
    mine = [i for i in mine if int(stays.entered_at[i]) < cut]
    if not mine:
        return Trail((), bool(line.book.deals.short_form[deal]))
    rules = ground.rules_on(line.as_of)
    start = int(stays.entered_at[mine[0]])
    end = max(min(int(stays.left_at[i]), cut) for i in mine)
    drawn = []
    for number, i in enumerate(mine):
        entered, left = int(stays.entered_at[i]), min(int(stays.left_at[i]), cut)
        stage = ground.stages[int(stays.stage[i])]
        typical = rules[int(stays.stage[i])].typical_days
        spent = (left - entered) / DAY_SECONDS
        over = spent - typical if typical is not None and spent > typical else None
        over_seconds = int((over or 0) * DAY_SECONDS)
        drawn.append(
            TrailStay(
                stage=stage.name,
                left=share(entered - start, end - start),
                width=share(max(left - entered, 1), end - start),
                days=spent,
                over=over,
                over_left=share(left - over_seconds - start, end - start),
                over_width=share(over_seconds, end - start),
                opacity=f"{0.45 + 0.5 * number / max(1, len(mine) - 1):.2f}",
                row=number % 2,
            )
        )
    return Trail(tuple(drawn), False)


def _span(line: ScopeLine, deal: int) -> tuple[int, int]:
    column = line.book.stays.deal
    return int(np.searchsorted(column, deal)), int(np.searchsorted(column, deal, side="right"))
