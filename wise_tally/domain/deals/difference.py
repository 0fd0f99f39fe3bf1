"""What a change of a deal changed, in words."""

from datetime import date

from wise_tally.domain.deals.models import DealRevision
from wise_tally.domain.formats import day, money, plural, points
from wise_tally.domain.process.models import Stage, StageKind


def difference(then: DealRevision, now: DealRevision) -> tuple[str, ...]:
    """What changed from one revision to the next, a phrase each."""
    phrases = []
    if then.stage_id != now.stage_id:
        phrases.append(f"{_direction(then.stage, now.stage)}{then.stage.name} → {now.stage.name}")
    if then.amount_minor != now.amount_minor:
        phrases.append(f"amount {money(then.amount_minor)} → {money(now.amount_minor)}")
    if then.expected_close != now.expected_close:
        slipped = _slip(then.expected_close, now.expected_close)
        phrases.append(f"expected close {day(then.expected_close)} → {day(now.expected_close)}{slipped}")
    if then.owner_id != now.owner_id:
        phrases.append(f"owner {then.owner.name} → {now.owner.name}")
    if then.territory_id != now.territory_id:
        phrases.append(f"territory {_name(then.territory)} → {_name(now.territory)}")
    if then.category_id != now.category_id:
        phrases.append(f"category {_name(then.category)} → {_name(now.category)}")
    if then.probability_bp != now.probability_bp:
        phrases.append(f"probability {points(then.probability_bp)} → {points(now.probability_bp)}")
    if now.lost_reason and now.lost_reason != then.lost_reason:
        phrases.append(f"lost: {now.lost_reason}")
    return tuple(phrases) or ("no change to stage, amount, close date, owner or category",)


def _direction(then: Stage, now: Stage) -> str:
    """What is unusual about a move."""
    if then.kind != StageKind.OPEN and now.kind == StageKind.OPEN:
        return "reopened: "
    return "back: " if now.kind == StageKind.OPEN and now.position < then.position else ""


def _slip(then: date | None, now: date | None) -> str:
    if then is None or now is None or now <= then:
        return ""
    return f", slipped {plural((now - then).days, 'day')}"


def _name(thing: object) -> str:
    return getattr(thing, "name", "the stage default") if thing is not None else "none"
