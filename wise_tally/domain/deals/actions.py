"""What people do to deals: each change is one new revision, written in one transaction, refused on an old state."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any

from django.db import transaction
from django.db.models import QuerySet

from wise_tally.core.calendar import midnight_ending
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.difference import difference
from wise_tally.domain.deals.entry import (
    Lacking,
    facts_of,
    keep_answers,
    keep_details,
    missing_before,
    send_notices,
    skipped_before,
)
from wise_tally.domain.deals.models import Deal, DealCredit, DealRevision
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer, require_change, require_giving
from wise_tally.domain.org.actions import BEGINNING, audit
from wise_tally.domain.org.book_number import reference_changed, revisions_added
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.org.records import as_text
from wise_tally.domain.process.models import Category, Stage, StageKind
from wise_tally.domain.refusals import WriteConflict


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
        super().__init__("Somebody else has changed this deal in the meantime.")
        self.now = now


class StageRefused(WriteConflict):
    """The stage belongs to another process, is retired, or its entry checks miss something, which `lacking` lists."""

    def __init__(self, message: str, lacking: Sequence[Lacking] = ()) -> None:
        super().__init__(message)
        self.lacking = lacking


class ClosingRefused(Exception):
    """A deal cannot be closed like this; `faults` says by field (`closed_on`, `lost_reason`) what is wrong and what to do."""

    def __init__(self, faults: Mapping[str, str]) -> None:
        super().__init__(" ".join(faults.values()))
        self.faults = dict(faults)


@dataclass(frozen=True)
class Closing:
    """What is known of a deal that is won or lost: the day (None for now), why it was lost, the competitor."""

    on: date | None = None
    lost_reason: str = ""
    competitor: str = ""


NO_CLOSING = Closing()


@dataclass(frozen=True)
class Typed:
    """What was typed besides the state because a stage asks for it: answers by question, details by name, the closing."""

    answers: Mapping[str, str] = field(default_factory=dict)
    details: Mapping[str, str] = field(default_factory=dict)
    closing: Closing = NO_CLOSING

    @property
    def all_details(self) -> dict[str, str]:
        """The details with the competitor of the closing."""
        return {**self.details, "competitor": self.closing.competitor}


NOTHING_TYPED = Typed()


def last_revision(deal: Deal) -> DealRevision:
    """The revision in effect; the later of two at the same moment."""
    revisions = DealRevision.objects.filter(deal=deal, void=False).select_related(
        "stage", "category", "owner", "territory"
    )
    revision = revisions.order_by("-pk").first()
    assert revision is not None, "a deal always has a revision"
    return revision


@transaction.atomic
def change_deal(  # noqa: PLR0913 - who, what, on which state, when
    viewer: Viewer,
    reference: ReferenceData,
    deal: Deal,
    expected_revision: int,
    state: DealState,
    reason: str,
    now: datetime,
    typed: Typed = NOTHING_TYPED,
) -> DealRevision:
    """Write a new revision of a deal, or nothing where it has that state already.

    Raises OldState, StageRefused, ClosingRefused, WriteRefused or PermissionDenied and then changes nothing.
    """
    last, today = last_revision(deal), local_day(now, reference.time_zone)
    require_owner(viewer, reference, last.owner, today)
    wanted = _revised(deal, last, state, typed.closing)
    if _state(wanted) == _state(last):
        # The same sent twice is saved once, and nobody's change is lost by it.
        return last
    if last.pk != expected_revision:
        raise OldState(last)
    _require_stage(deal, last, state)
    require_giving(viewer, reference, today, last.owner, wanted.owner)
    enters = wanted.stage != last.stage
    wanted.effective_at = _moment(last, wanted, typed.closing if enters else NO_CLOSING, now, reference.time_zone)
    wanted.changed_by, wanted.reason = viewer.key, reason
    replaced: dict[str, Any] = {}
    if enters:
        replaced = {"answers": keep_answers(deal, typed.answers, viewer, now)}
        replaced |= keep_details(deal, typed.all_details)
        _require_entry(viewer, deal, last.stage, wanted, today)
    if wanted.effective_at != now.replace(microsecond=0):
        replaced["made_at"] = int(now.timestamp())
    replaced |= _flags_lowered(deal, amount_typed=wanted.amount_minor != last.amount_minor)
    wanted.replaced = as_text({name: value for name, value in replaced.items() if value})
    wanted.save()
    if enters:
        send_notices(wanted, now)
    changed = "; ".join(difference(last, wanted))
    audit(viewer, "deal changed", f"{deal.key} revision {wanted.pk}", now, after=changed)
    revisions_added()
    return wanted


STATE = (
    "stage_id",
    "amount_minor",
    "expected_close",
    "owner_id",
    "territory_id",
    "category_id",
    "probability_bp",
    "lost_reason",
)


def _state(revision: DealRevision) -> tuple[object, ...]:
    return tuple(getattr(revision, name) for name in STATE)


def _revised(deal: Deal, last: DealRevision, state: DealState, closing: Closing) -> DealRevision:
    """The revision that the state asks for, not saved; what closes a deal takes its own category from it."""
    closed, lost = state.stage.kind != StageKind.OPEN, state.stage.kind == StageKind.LOST
    reason_before = last.lost_reason if state.stage == last.stage else ""
    return DealRevision(
        deal=deal,
        stage=state.stage,
        amount_minor=state.amount_minor,
        expected_close=state.expected_close,
        owner=state.owner or last.owner,
        territory=state.territory if state.moves_place else last.territory,
        category=last.category if closed and state.stage == last.stage else None if closed else state.category,
        probability_bp=state.probability_bp if state.sets_probability else last.probability_bp,
        lost_reason=(closing.lost_reason or reason_before) if lost else "",
    )


def _require_stage(deal: Deal, last: DealRevision, state: DealState) -> None:
    if state.sets_probability and state.probability_bp is not None and not state.stage.own_probability:
        raise StageRefused(f"The probability cannot be changed per deal in “{state.stage.name}”. Leave it empty.")
    if state.stage.process_id != deal.process_id:
        raise StageRefused(f"“{state.stage.name}” is a stage of another process.")
    if state.stage.retired and state.stage != last.stage:
        raise StageRefused(f"The stage “{state.stage.name}” is retired.")


def _moment(last: DealRevision, wanted: DealRevision, closing: Closing, now: datetime, time_zone: str) -> datetime:
    """When the revision takes effect: now, or the end of the day on which the deal was closed. Raises ClosingRefused.

    Revisions of a deal never go back in time, whatever the clock does.
    """
    moment, faults = now.replace(microsecond=0), {}
    # One that came without a reason, from a package, may be changed without one.
    if wanted.stage != last.stage and wanted.stage.kind == StageKind.LOST and not wanted.lost_reason:
        faults["lost_reason"] = "No reason is given. Say why the deal was lost."
    today, first = local_day(now, time_zone), local_day(last.effective_at, time_zone)
    if closing.on is not None and wanted.stage.kind != StageKind.OPEN and closing.on != today:
        if not first <= closing.on <= today:
            days = (
                f"today, {today:%-d %b %Y}"
                if first >= today
                else f"a day from {first:%-d %b %Y}, the last change, to today"
            )
            faults["closed_on"] = f"{closing.on:%-d %b %Y} cannot be the closing day. Choose {days}."
        moment = datetime.fromtimestamp(midnight_ending(closing.on, time_zone) - 1, UTC)
    if faults:
        raise ClosingRefused(faults)
    return max(moment, last.effective_at)


def _flags_lowered(deal: Deal, amount_typed: bool) -> dict[str, bool]:
    """A changed deal no longer lacks its history, a typed amount is not that of the lines; returns which flags were up."""
    deal.refresh_from_db(fields=["short_form", "amount_from_lines"])
    up = {"short_form": deal.short_form, "amount_from_lines": deal.amount_from_lines and amount_typed}
    lowered = {name: True for name, is_up in up.items() if is_up}
    if lowered:
        Deal.objects.filter(pk=deal.pk).update(**dict.fromkeys(lowered, False))
    return lowered


def require_deal(viewer: Viewer, reference: ReferenceData, deal: Deal, today: date) -> DealRevision:
    """The deal's last revision; raises PermissionDenied unless the viewer may change the deal."""
    last = last_revision(deal)
    require_owner(viewer, reference, last.owner, today)
    return last


def _require_entry(viewer: Viewer, deal: Deal, present: Stage, entering: DealRevision, today: date) -> None:
    """Raise StageRefused with everything that the stage asks before a deal enters it and that is missing."""
    lacking = [Lacking(words) for words in skipped_before(deal, present, entering.stage)]
    if entering.stage.checks.exists():
        lacking += missing_before([entering.stage], facts_of(deal, entering, viewer, today))[entering.stage.pk]
    if lacking:
        words = "; ".join(item.words for item in lacking)
        raise StageRefused(f"Needed before “{entering.stage.name}”: {words}.", lacking)


def require_owner(viewer: Viewer, reference: ReferenceData, owner: Person, today: date) -> None:
    """Raise PermissionDenied unless the viewer may change the deals of a person."""
    require_change(viewer, reference, today, reference.person_index[owner.key])


@transaction.atomic
def set_credits(
    viewer: Viewer, reference: ReferenceData, deal: Deal, shares: dict[Person, int], from_on: date, now: datetime
) -> None:
    """Divide a deal's credit from a day on; shares in basis points sum to 10 000."""
    last = last_revision(deal)
    require_owner(viewer, reference, last.owner, local_day(now, reference.time_zone))
    if sum(shares.values()) != 10_000:
        raise ValueError(f"The shares add up to {sum(shares.values()) / 100:g} %. They must add up to 100 %.")
    if not deal.credits.exists():
        DealCredit.objects.create(deal=deal, person=last.owner, share_bp=10_000, from_on=BEGINNING)
    deal.credits.filter(from_on=from_on).delete()
    DealCredit.objects.bulk_create(
        DealCredit(deal=deal, person=person, share_bp=share, from_on=from_on) for person, share in shares.items()
    )
    audit(viewer, "credit divided", deal.key, now)
    reference_changed()


@transaction.atomic
def merge_stage(viewer: Viewer, source: Stage, target: Stage, now: datetime) -> int:
    """Move every deal that stands in `source` to `target` with a new revision and retire `source`; returns how many.

    Nothing of the past is rewritten: the deals stood in `source` until now. Raises StageRefused.
    """
    viewer.require(May.SET_RULES)
    if source == target or source.process_id != target.process_id or {source.kind, target.kind} != {StageKind.OPEN}:
        raise StageRefused("Two different open stages of one process can be merged.")
    if target.retired:
        raise StageRefused(f"The stage “{target.name}” is retired. Choose another stage.")
    reason = f"stage “{source.name}” merged into “{target.name}”"
    moved = move_all(viewer, last_revisions().filter(stage=source), {"stage": target}, reason, now)
    Stage.objects.filter(pk=source.pk).update(retired=True)
    audit(viewer, "stages merged", f"{plural(moved, 'deal')} moved", now, source.name, target.name)
    reference_changed()
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
    Deal.objects.filter(pk__in=[revision.deal_id for revision in moved], short_form=True).update(short_form=False)
    return len(moved)
