"""What people do to deals: each change is one new revision, written in one transaction, refused on an old state."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.ground import Ground
from wise_tally.deals.entry import (
    Lacking,
    facts_of,
    keep_answers,
    keep_details,
    missing_before,
    send_notices,
    skipped_before,
)
from wise_tally.deals.models import Deal, DealCredit, DealRevision
from wise_tally.deals.selectors import last_revisions
from wise_tally.org.access import May, Viewer, require_change
from wise_tally.org.actions import BEGINNING, audit
from wise_tally.org.book_number import ground_changed, old_rows_changed, revisions_added
from wise_tally.org.clock import local_day
from wise_tally.org.models import Person, Territory
from wise_tally.process.models import Category, Stage, StageKind


@dataclass(frozen=True)
class DealState:
    """The parts of a deal's state that a person may change.

    Without `owner`, or unless `moves_place` or `sets_probability`, the owner, the territory and the deal's own
    probability stay.
    """

    stage: Stage
    amount_minor: int
    expected_close: date | None
    category: Category | None
    owner: Person | None = None
    territory: Territory | None = None
    moves_place: bool = False
    probability_bp: int | None = None
    sets_probability: bool = False


class OldState(Exception):
    """The deal changed since the page was opened; `now` is its present state."""

    def __init__(self, now: DealRevision) -> None:
        super().__init__("The deal was changed by somebody else since this page was opened.")
        self.now = now


class StageRefused(Exception):
    """The stage belongs to another process, is retired, or its entry checks miss something, which `lacking` lists."""

    def __init__(self, message: str, lacking: Sequence[Lacking] = ()) -> None:
        super().__init__(message)
        self.lacking = lacking


@dataclass(frozen=True)
class Typed:
    """What was typed besides the state because a stage asks for it: answers by question, details by name."""

    answers: Mapping[str, str]
    details: Mapping[str, str]


def last_revision(deal: Deal) -> DealRevision:
    """The revision in effect; the later of two at the same moment."""
    found = DealRevision.objects.filter(deal=deal, void=False).select_related("stage", "category", "owner", "territory")
    revision = found.order_by("-pk").first()
    assert revision is not None, "a deal always has a revision"
    return revision


@transaction.atomic
def change_deal(  # noqa: PLR0913 - who, what, on which state, when
    viewer: Viewer,
    ground: Ground,
    deal: Deal,
    seen_revision: int,
    state: DealState,
    reason: str,
    now: datetime,
    typed: Typed | None = None,
) -> DealRevision:
    """Write a new revision of a deal. Raises OldState, StageRefused or PermissionDenied and then changes nothing."""
    last = last_revision(deal)
    _require(viewer, ground, last.owner, local_day(now, ground.time_zone))
    if last.pk != seen_revision:
        raise OldState(last)
    probability = state.probability_bp if state.sets_probability else last.probability_bp
    if state.sets_probability and probability is not None and not state.stage.own_probability:
        raise StageRefused(
            f"In “{state.stage.name}” every deal has the stage’s probability; accepted: none of its own."
        )
    if state.stage.process_id != deal.process_id:
        raise StageRefused(f"“{state.stage.name}” is a stage of another process.")
    if state.stage.retired and state.stage != last.stage:
        raise StageRefused(f"The stage “{state.stage.name}” is retired.")
    owner, territory = state.owner or last.owner, state.territory if state.moves_place else last.territory
    wanted = (state.stage, state.amount_minor, state.expected_close, state.category, owner, territory, probability)
    if wanted == (*_same_parts(last), last.owner, last.territory, last.probability_bp):
        return last
    closed = state.stage.kind != StageKind.OPEN
    revision = DealRevision(
        deal=deal,
        # Revisions of a deal never go back in time, whatever the clock does.
        effective_at=max(now.replace(microsecond=0), last.effective_at),
        stage=state.stage,
        amount_minor=state.amount_minor,
        expected_close=state.expected_close,
        owner=owner,
        territory=territory,
        category=None if closed else state.category,
        probability_bp=probability,
        lost_reason=reason if state.stage.kind == StageKind.LOST else "",
        changed_by=viewer.key,
        reason=reason,
    )
    if state.stage != last.stage:
        if typed:
            keep_answers(deal, typed.answers, viewer, now)
            keep_details(deal, typed.details)
        _require_entry(viewer, deal, last.stage, revision, local_day(now, ground.time_zone))
    revision.save()
    if deal.amount_from_lines and state.amount_minor != last.amount_minor:
        # A typed amount stands until the lines are saved as the amount again.
        Deal.objects.filter(pk=deal.pk).update(amount_from_lines=False)
    if state.stage != last.stage:
        send_notices(revision, now)
    if deal.short_form:
        Deal.objects.filter(pk=deal.pk).update(short_form=False)
        old_rows_changed()
    audit(viewer, "deal changed", f"{deal.key} revision {revision.pk}", now)
    revisions_added()
    return revision


def _same_parts(last: DealRevision) -> tuple[object, ...]:
    return last.stage, last.amount_minor, last.expected_close, last.category


def require_deal(viewer: Viewer, ground: Ground, deal: Deal, today: date) -> DealRevision:
    """The deal's last revision; raises PermissionDenied unless the viewer may change the deal."""
    last = last_revision(deal)
    _require(viewer, ground, last.owner, today)
    return last


def _require_entry(viewer: Viewer, deal: Deal, present: Stage, entering: DealRevision, today: date) -> None:
    """Raise StageRefused with everything that the stage asks before a deal enters it and that is missing."""
    lacking = [Lacking(words) for words in skipped_before(deal, present, entering.stage)]
    if entering.stage.checks.exists():
        lacking += missing_before(entering.stage, facts_of(deal, entering, viewer, today))
    if lacking:
        words = "; ".join(item.words for item in lacking)
        raise StageRefused(f"Before a deal enters “{entering.stage.name}”: {words}.", lacking)


def _require(viewer: Viewer, ground: Ground, owner: Person, today: date) -> None:
    index = next(i for i, person in enumerate(ground.people) if person.key == owner.key)
    require_change(viewer, ground, today, index)


@transaction.atomic
def set_credits(
    viewer: Viewer, ground: Ground, deal: Deal, shares: dict[Person, int], from_on: date, now: datetime
) -> None:
    """Divide a deal's credit from a day on; shares in basis points sum to 10 000."""
    last = last_revision(deal)
    _require(viewer, ground, last.owner, local_day(now, ground.time_zone))
    if sum(shares.values()) != 10_000:
        raise ValueError(f"The shares sum to {sum(shares.values()) / 100:g}; accepted: shares that sum to 100.")
    if not deal.credits.exists():
        DealCredit.objects.create(deal=deal, person=last.owner, share_bp=10_000, from_on=BEGINNING)
    deal.credits.filter(from_on=from_on).delete()
    DealCredit.objects.bulk_create(
        DealCredit(deal=deal, person=person, share_bp=share, from_on=from_on) for person, share in shares.items()
    )
    audit(viewer, "credit divided", deal.key, now)
    ground_changed()


@transaction.atomic
def merge_stage(viewer: Viewer, source: Stage, target: Stage, now: datetime) -> int:
    """Move every deal that stands in `source` to `target` with a new revision and retire `source`; returns how many.

    Nothing of the past is rewritten: the deals stood in `source` until now. Raises StageRefused.
    """
    viewer.require(May.SET_RULES)
    if source == target or source.process_id != target.process_id or {source.kind, target.kind} != {StageKind.OPEN}:
        raise StageRefused("Two different open stages of one process can be merged.")
    if target.retired:
        raise StageRefused(f"The stage “{target.name}” is retired; accepted: a stage in use.")
    reason = f"stage “{source.name}” merged into “{target.name}”"
    moved = move_all(viewer, last_revisions().filter(stage=source), {"stage": target}, reason, now)
    Stage.objects.filter(pk=source.pk).update(retired=True)
    audit(viewer, "stages merged", f"{moved} deals moved", now, source.name, target.name)
    ground_changed()
    return moved


def move_all(
    viewer: Viewer, last: QuerySet[DealRevision], changes: Mapping[str, object], reason: str, now: datetime
) -> int:
    """One new revision for each of these last ones, with some parts changed; returns how many. Asks no entry checks."""
    moment, moved = now.replace(microsecond=0), []
    for revision in last:
        revision.pk, revision.effective_at = None, max(moment, revision.effective_at)
        revision.changed_by, revision.reason = viewer.key, reason
        for name, value in changes.items():
            setattr(revision, name, value)
        moved.append(revision)
    DealRevision.objects.bulk_create(moved, batch_size=1_000)
    deals = [revision.deal_id for revision in moved]
    if Deal.objects.filter(pk__in=deals, short_form=True).update(short_form=False):
        old_rows_changed()
    return len(moved)
