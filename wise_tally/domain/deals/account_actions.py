"""Accounts and their contacts: added, changed, twins merged without losing anything."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from django.db import models, transaction
from django.db.models import QuerySet

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.customer_access import require_customer
from wise_tally.domain.deals.models import Account, Activity, Contact, Deal, Invoice, Note, Order, OwnFieldValue
from wise_tally.domain.deals.names_alike import names_alike
from wise_tally.domain.deals.own_fields import Kind
from wise_tally.domain.org.access import May, Viewer, require_giving
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import attributes_changed
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import as_text, new_key, values_of

BELONGING: tuple[type[models.Model], ...] = (Contact, Deal, Activity, Note, Invoice, Order)
ACCOUNT_COLUMNS = ("name", "kind", "territory", "owner", "industry", "country")
ACCOUNTS = Kind(Account, "account", ACCOUNT_COLUMNS)
CONTACT_COLUMNS = ("name", "email", "phone", "job_title")
MOST_MATCHES = 5


def likely_matches(name: str, among: QuerySet[Account]) -> list[Account]:
    """Accounts whose name is likely the same customer's, the most alike first."""
    named = list(among.values_list("pk", "name"))
    alike = names_alike(name, tuple(other for _, other in named))
    best = sorted(alike, key=lambda index: (-alike[index], named[index][1], named[index][0]))[:MOST_MATCHES]
    accounts = among.in_bulk([named[index][0] for index in best])
    return [accounts[named[index][0]] for index in best]


@transaction.atomic
def save_account(
    viewer: Viewer,
    reference: ReferenceData,
    key: str | None,
    values: Mapping[str, Any],
    now: datetime,
    expected: str = "",
) -> Account:
    """Add an account or change one with its own fields (`own`); raises ChangedMeanwhile, WriteRefused."""
    if key is None:
        viewer.require(May.CHANGE_OWN_DEALS)
        _require_giving(viewer, reference, None, values, now)
        account, before = ACCOUNTS.add(values), ""
    else:
        account = Account.objects.get(key=key)
        _require(viewer, reference, account, now)
        _require_giving(viewer, reference, account.owner, values, now)
        before = ACCOUNTS.change(account, values, expected)
        attributes_changed()
    audit(viewer, f"account {'changed' if key else 'added'}", account.key, now, before, ACCOUNTS.text(account))
    return account  # type: ignore[no-any-return]


def _require_giving(
    viewer: Viewer, reference: ReferenceData, owner: Person | None, values: Mapping[str, Any], now: datetime
) -> None:
    require_giving(viewer, reference, local_day(now, reference.time_zone), owner, values["owner"])


def _require(viewer: Viewer, reference: ReferenceData, account: Account, now: datetime) -> None:
    require_customer(viewer, reference, account, local_day(now, reference.time_zone))


@transaction.atomic
def save_contact(
    viewer: Viewer,
    reference: ReferenceData,
    account: Account,
    key: str | None,
    values: Mapping[str, Any],
    now: datetime,
) -> Contact:
    """Add somebody at a customer's or change what is known of them."""
    _require(viewer, reference, account, now)
    if key is None:
        contact = Contact.objects.create(key=new_key(Contact, values["name"]), account=account, **values)
        before = ""
    else:
        contact = Contact.objects.get(key=key, account=account)
        before = as_text(values_of(contact, list(CONTACT_COLUMNS)))
        for name, value in values.items():
            setattr(contact, name, value)
        contact.save(update_fields=list(values))
    after = as_text(values_of(contact, list(CONTACT_COLUMNS)))
    audit(viewer, f"contact {'changed' if key else 'added'}", contact.key, now, before, after)
    return contact


@transaction.atomic
def merge_accounts(viewer: Viewer, reference: ReferenceData, twin: Account, remaining: Account, now: datetime) -> int:
    """Move everything of `twin` to `remaining` and take `twin` away; returns how many records moved.

    What `remaining` lacks it takes from `twin`; where both have something, the audit keeps the twin's.
    """
    for account in (twin, remaining):
        _require(viewer, reference, account, now)
    if twin.pk == remaining.pk:
        raise ValueError("An account cannot be merged into itself. Choose another account.")
    before = ACCOUNTS.text(twin)
    moved = sum(model._default_manager.filter(account=twin).update(account=remaining) for model in BELONGING)
    lacking = [name for name in ACCOUNT_COLUMNS if not getattr(remaining, name) and getattr(twin, name)]
    for name in lacking:
        setattr(remaining, name, getattr(twin, name))
    remaining.save(update_fields=lacking)
    for value in OwnFieldValue.objects.filter(subject_key=twin.key, field__applies_to="account"):
        OwnFieldValue.objects.get_or_create(
            field=value.field, subject_key=remaining.key, defaults={"value": value.value}
        )
        value.delete()
    twin.delete()
    attributes_changed()
    audit(
        viewer,
        "accounts merged",
        f"{twin.key} into {remaining.key}, {moved} records",
        now,
        before,
        ACCOUNTS.text(remaining),
    )
    return moved
