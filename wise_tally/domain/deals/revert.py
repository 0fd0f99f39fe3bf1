"""Putting a change of a deal back: at once it is as if it had never been, later it is a change like any other."""

from datetime import UTC, datetime, timedelta

from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import OldState, StageRefused, last_revision, require_owner
from wise_tally.domain.deals.difference import difference
from wise_tally.domain.deals.entry import restore_answers, write_details
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import old_rows_changed, revisions_added
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.records import expected_values, has_belongings

AT_ONCE = timedelta(hours=1)
PUT_BACK = "put back"


def revision_before(revision: DealRevision) -> DealRevision | None:
    """The state that a change replaced; None for a deal's first one."""
    earlier = DealRevision.objects.filter(deal=revision.deal_id, void=False, pk__lt=revision.pk)
    return earlier.select_related("stage", "category", "owner", "territory").order_by("-pk").first()


@transaction.atomic
def revert(viewer: Viewer, reference: ReferenceData, deal: Deal, expected_revision: int, now: datetime) -> DealRevision:
    """Put the last change of a deal back, with all of its state and what it replaced beside it; returns the state in effect.

    By the same person, within the hour and on the same local day, the change is void: it counts nowhere, as of no day.
    Otherwise a new revision copies the earlier state. Raises OldState where the deal was changed since, StageRefused
    where there is nothing to put back or the stage is gone, PermissionDenied.
    """
    last = last_revision(deal)
    before = revision_before(last)
    if last.pk != expected_revision:
        raise OldState(last)
    if before is None:
        raise StageRefused("This is the deal as it was created; there is no earlier state.")
    for person in {last.owner, before.owner} if last.changed_by != viewer.key else {before.owner}:
        require_owner(viewer, reference, person, local_day(now, reference.time_zone))
    if before.stage.retired and before.stage != last.stage:
        raise StageRefused(f"The stage “{before.stage.name}” is retired. Restore the stage first.")
    replaced, void = last.replaced, _is_slip(viewer, last, now, reference.time_zone)
    if void:
        DealRevision.objects.filter(pk=last.pk).update(void=True)
    before.pk, before.effective_at = None, max(now.replace(microsecond=0), last.effective_at)
    before.changed_by, before.reason, before.void, before.replaced = viewer.key, PUT_BACK, void, ""
    before.save()
    _restore_replaced(deal, replaced, came_short=void)
    changed = "; ".join(difference(last, before))
    audit(viewer, "deal change put back", f"{deal.key} revision {expected_revision}", now, after=changed)
    revisions_added()
    return last_revision(deal)


@transaction.atomic
def take_back_added(
    viewer: Viewer, reference: ReferenceData, deal: Deal, expected_revision: int, now: datetime
) -> None:
    """Remove a deal that was added by mistake, as if it had never been; the audit still records it.

    Raises OldState where it was changed since, StageRefused where somebody else added it, it is older, or something belongs to
    it already, PermissionDenied.
    """
    added = last_revision(deal)
    if added.pk != expected_revision or revision_before(added) is not None:
        raise OldState(added)
    require_owner(viewer, reference, added.owner, local_day(now, reference.time_zone))
    if not _is_slip(viewer, added, now, reference.time_zone):
        raise StageRefused("Only the person who added a deal can remove it, within an hour and on the same day.")
    if has_belongings(deal, but=DealRevision):
        raise StageRefused(f"Something belongs to “{deal.name}” already, such as an activity. Mark it as lost instead.")
    audit(viewer, "deal removed", f"{deal.key}, just added", now, before=deal.name)
    deal.delete()
    old_rows_changed()


def _is_slip(viewer: Viewer, last: DealRevision, now: datetime, time_zone: str) -> bool:
    """Whether the change was a slip of the hand: made by the same person, within the hour, on the same local day."""
    made_at = expected_values(last.replaced).get("made_at")
    made = datetime.fromtimestamp(made_at, UTC) if made_at else last.effective_at
    passed = now.replace(microsecond=0) - made
    same_day = local_day(now, time_zone) == local_day(made, time_zone)
    return bool(viewer.key) and last.changed_by == viewer.key and same_day and timedelta() <= passed <= AT_ONCE


def _restore_replaced(deal: Deal, text: str, came_short: bool) -> None:
    replaced = expected_values(text)
    up = [name for name in ("amount_from_lines", "short_form") if replaced.get(name)]
    flags = {name: True for name in up if name != "short_form" or came_short}
    if flags:
        Deal.objects.filter(pk=deal.pk).update(**flags)
    write_details(deal, replaced)
    restore_answers(deal, replaced.get("answers", {}))
