"""Several accounts or leads changed at once, all or none; what was changed can be undone."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import transaction

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.account_actions import ACCOUNTS, save_account
from wise_tally.domain.deals.lead_actions import LEADS, save_lead
from wise_tally.domain.deals.models import Account, Lead
from wise_tally.domain.deals.own_fields import own_values
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.process.models import LeadStep
from wise_tally.domain.refusals import WriteRefused

MOST = 500
ACCOUNT, LEAD = "account", "lead"
# What may be given to several at once, by kind.
FIELDS = {ACCOUNT: ("owner", "territory"), LEAD: ("owner", "status", "step")}
OPEN_STATUSES = ("new", "working")


@dataclass(frozen=True)
class ChangedRecord:
    """A record with its changed fields as texts (identifiers of people and territories), before and after."""

    key: str
    before: dict[str, str]
    after: dict[str, str]


@transaction.atomic
def change_several(
    viewer: Viewer, reference: ReferenceData, kind: str, keys: Sequence[str], wanted: Mapping[str, str], now: datetime
) -> list[ChangedRecord]:
    """Give accounts or leads an owner, a territory, status or step; those that have it already are left.

    Raises WriteRefused, and PermissionDenied where one of them may not be changed or given.
    """
    model: Any = Account if kind == ACCOUNT else Lead
    if not wanted or not set(wanted) <= set(FIELDS[kind]):
        raise WriteRefused("Choose at least one change.")
    if not 1 <= len(keys) <= MOST:
        raise WriteRefused(f"{len(keys)} are selected. Select 1 to {MOST} at once.")
    records = list(model.objects.filter(key__in=keys).select_related("owner").order_by("key"))
    changed = []
    for record in records:
        before = {name: _plain(getattr(record, name)) for name in wanted}
        if before != dict(wanted):
            _save(viewer, reference, kind, record, wanted, now)
            changed.append(ChangedRecord(record.key, before, dict(wanted)))
    return changed


@transaction.atomic
def put_several_back(
    viewer: Viewer, reference: ReferenceData, kind: str, changed: Sequence[ChangedRecord], now: datetime
) -> int:
    """Undo such a change; raises WriteRefused where one of them was changed since."""
    model: Any = Account if kind == ACCOUNT else Lead
    for one in changed:
        record = model.objects.filter(key=one.key).first()
        if record is None or {name: _plain(getattr(record, name)) for name in one.after} != one.after:
            name = record.name if record else one.key
            raise WriteRefused(f"Nothing was undone: {name} was changed since. Change it on its own page.")
        _save(viewer, reference, kind, record, one.before, now)
    return len(changed)


def _plain(value: Any) -> str:
    return value.key if isinstance(value, Person | Territory | LeadStep) else value or ""


def _save(
    viewer: Viewer, reference: ReferenceData, kind: str, record: Any, wanted: Mapping[str, str], now: datetime
) -> None:
    """Change one record as its own page does."""
    columns = (ACCOUNTS if kind == ACCOUNT else LEADS).columns
    values = {name: getattr(record, name) for name in columns} | {"own": own_values(kind, record.key)}
    values |= {name: _read(name, text) for name, text in wanted.items()}
    try:
        (save_account if kind == ACCOUNT else save_lead)(viewer, reference, record.key, values, now)
    except WriteRefused as refused:
        raise WriteRefused(f"Nothing was changed. {record.name}: {refused}") from None


def _read(name: str, text: str) -> Any:
    """A person, a territory, a step or a status; raises WriteRefused."""
    if name == "status":
        if text not in OPEN_STATUSES and text:
            raise WriteRefused(f"“{text[:20]}” cannot be given to several. Choose new or working.")
        return text
    if not text:
        return None
    models: dict[str, Any] = {"owner": Person, "territory": Territory, "step": LeadStep}
    record: Any = models[name].objects.filter(key=text).first()
    if record is None:
        raise WriteRefused(f"“{text[:60]}” was not found. Choose one from the list.")
    return record
