"""Accounts and their contacts: added, changed, twins merged without losing anything."""

from collections.abc import Mapping
from datetime import datetime
from difflib import SequenceMatcher
from functools import lru_cache
from typing import Any

from django.db import models, transaction
from django.db.models import QuerySet

from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.customer_access import require_customer
from wise_tally.domain.deals.models import Account, Activity, Contact, Deal, Invoice, Note, Order, OwnFieldValue
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
ALIKE = 0.8
MOST_MATCHES = 5
MOST_SLIPS = 2
SAME_BUT_SLIPS = 0.92


def likely_matches(name: str, among: QuerySet[Account]) -> list[Account]:
    """Accounts whose name is likely the same customer's: every word of the shorter name has one like it in the other."""
    wanted = _words(name)
    found = []
    for account in among:
        other = _words(account.name)
        alike = max(_alike(wanted, other), _run_together(wanted, other))
        if alike >= ALIKE:
            found.append((-alike, account.name, account.pk, account))
    return [account for *_, account in sorted(found)[:MOST_MATCHES]]


def _words(name: str) -> list[str]:
    """The words of a name without case and signs; single letters are passed over."""
    return [word for word in "".join(c if c.isalnum() else " " for c in name.casefold()).split() if len(word) > 1]


def _run_together(one: list[str], other: list[str]) -> float:
    """How alike two names are without their spaces, 0 unless they differ by a slip or two."""
    first, second = "".join(one), "".join(other)
    if not first or not second or abs(len(first) - len(second)) > MOST_SLIPS or first[0] != second[0]:
        return 0.0
    ratio = _word_ratio(first, second)
    return ratio if ratio >= SAME_BUT_SLIPS else 0.0


@lru_cache(maxsize=100_000)
def _word_ratio(one: str, other: str) -> float:
    """How alike two words are, 0 to 1; names share their words, so each pair is worked out once."""
    return 1.0 if one == other else SequenceMatcher(None, one, other).ratio()


def _alike(one: list[str], other: list[str]) -> float:
    """How like the least like word of the shorter name is to its best counterpart, 0 to 1; 0 for a name without words."""
    shorter, longer = sorted((one, list(other)), key=len)
    if not shorter or len(longer) - len(shorter) > len(shorter):
        return 0.0
    least, left = 1.0, list(longer)
    for word in sorted(shorter, key=len, reverse=True):
        best = max(left, key=lambda candidate: _word_ratio(word, candidate))
        ratio = _word_ratio(word, best)
        if ratio < ALIKE:
            return 0.0
        left.remove(best)
        least = min(least, ratio)
    return least


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
def merge_accounts(viewer: Viewer, reference: ReferenceData, twin: Account, kept: Account, now: datetime) -> int:
    """Move everything of `twin` to `kept` and take `twin` away; returns how many records moved.

    What `kept` lacks it takes from `twin`; where both have something, the audit keeps the twin's.
    """
    for account in (twin, kept):
        _require(viewer, reference, account, now)
    if twin.pk == kept.pk:
        raise ValueError("An account cannot be merged into itself. Choose another account.")
    before = ACCOUNTS.text(twin)
    moved = sum(model._default_manager.filter(account=twin).update(account=kept) for model in BELONGING)
    lacking = [name for name in ACCOUNT_COLUMNS if not getattr(kept, name) and getattr(twin, name)]
    for name in lacking:
        setattr(kept, name, getattr(twin, name))
    kept.save(update_fields=lacking)
    for value in OwnFieldValue.objects.filter(subject_key=twin.key, field__applies_to="account"):
        OwnFieldValue.objects.get_or_create(field=value.field, subject_key=kept.key, defaults={"value": value.value})
        value.delete()
    twin.delete()
    attributes_changed()
    audit(viewer, "accounts merged", f"{twin.key} into {kept.key}, {moved} records", now, before, ACCOUNTS.text(kept))
    return moved
