"""What belongs to a deal beside its state: details, lines, payments, contacts, credit. Each is read and saved as a whole.

A part is kept as plain values that JSON can hold, so that one action saves it, refuses an old state with both
values, writes the audit, and puts back what was before.
"""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from django.db import transaction

from wise_tally.core.money import line_amount
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import DealState, change_deal, last_revision, move_all, require_deal, set_credits
from wise_tally.domain.deals.models import Account, Contact, Deal, DealContact, DealLine, Partner, Payment, Product
from wise_tally.domain.deals.own_fields import keep_own, own_values
from wise_tally.domain.deals.revert import revert
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import attributes_changed, old_rows_changed, revisions_added
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import ChangedMeanwhile, as_text, expected_values

Value = dict[str, Any]
TEXTS = ("name", "deal_type", "source", "campaign", "next_step", "competitor")
RECORDS = {"account": Account, "contact": Contact, "partner": Partner}
IN_THE_BOOK = ("deal_type", "source")


@dataclass(frozen=True)
class Who:
    """Who changes a deal, among whom, and when."""

    viewer: Viewer
    reference: ReferenceData
    now: datetime


@dataclass(frozen=True)
class Part:
    """How a part is read and written."""

    words: str
    read: Callable[[Deal, date], Value]
    write: Callable[[Deal, Value, Who], None]


def _details(deal: Deal, today: date) -> Value:
    details: Value = {name: getattr(deal, name) for name in TEXTS}
    for name in RECORDS:
        record = getattr(deal, name)
        details[name] = record.key if record else None
    details["next_step_on"] = deal.next_step_on.isoformat() if deal.next_step_on else None
    details["own"] = own_values("deal", deal.key)
    return details


def _write_details(deal: Deal, value: Value, who: Who) -> None:
    before = {name: getattr(deal, name) for name in IN_THE_BOOK}
    for name in TEXTS:
        setattr(deal, name, value[name])
    for name, model in RECORDS.items():
        setattr(deal, name, model._default_manager.get(key=value[name]) if value[name] else None)
    deal.next_step_on = date.fromisoformat(value["next_step_on"]) if value["next_step_on"] else None
    deal.save(update_fields=[*TEXTS, *RECORDS, "next_step_on"])
    keep_own("deal", deal.key, value["own"])
    if before != {name: getattr(deal, name) for name in IN_THE_BOOK}:
        old_rows_changed()
    attributes_changed()


def _next(deal: Deal, today: date) -> Value:
    due = deal.next_step_on.isoformat() if deal.next_step_on else None
    return {"next_step": deal.next_step, "next_step_on": due}


def _write_next(deal: Deal, value: Value, who: Who) -> None:
    deal.next_step = value["next_step"]
    deal.next_step_on = date.fromisoformat(value["next_step_on"]) if value["next_step_on"] else None
    deal.save(update_fields=["next_step", "next_step_on"])


LINE_COLUMNS = ("quantity_10000ths", "unit_price_minor", "unit_cost_minor", "discount_bp")


def _lines(deal: Deal, today: date) -> Value:
    rows = DealLine.objects.filter(deal=deal).order_by("pk").values("product__key", *LINE_COLUMNS)
    lines = [{"product": row["product__key"], **{name: row[name] for name in LINE_COLUMNS}} for row in rows]
    return {"from_lines": deal.amount_from_lines, "rows": lines}


def lines_total(rows: list[Value]) -> int:
    """The amount that lines add up to, in minor units."""
    return sum(line_amount(row["quantity_10000ths"], row["unit_price_minor"], row["discount_bp"] or 0) for row in rows)


def follow_lines(viewer: Viewer, deals: Iterable[str], now: datetime) -> int:
    """Give deals whose amount is that of their lines this amount where it differs; returns how many."""
    count = 0
    for deal in Deal.objects.filter(key__in=deals, amount_from_lines=True):
        total = lines_total(_lines(deal, local_day(now))["rows"])
        last = last_revisions().filter(deal=deal).exclude(amount_minor=total)
        count += move_all(viewer, last, {"amount_minor": total}, "amount from the lines", now)
    audit(viewer, "amounts follow the lines", f"{count} deals", now)
    revisions_added()
    return count


def _write_lines(deal: Deal, value: Value, who: Who) -> None:
    products = {product.key: product for product in Product.objects.all()}
    deal.lines.all().delete()
    DealLine.objects.bulk_create(
        DealLine(deal=deal, product=products[row["product"]], **{name: row[name] for name in LINE_COLUMNS})
        for row in value["rows"]
    )
    attributes_changed()
    if value["from_lines"]:
        last = last_revision(deal)
        state = DealState(last.stage, lines_total(value["rows"]), last.expected_close, last.category)
        change_deal(who.viewer, who.reference, deal, last.pk, state, "amount from the lines", who.now)
    Deal.objects.filter(pk=deal.pk).update(amount_from_lines=value["from_lines"])
    deal.amount_from_lines = value["from_lines"]


def _payments(deal: Deal, today: date) -> Value:
    rows = deal.payments.order_by("due_on", "pk").values("due_on", "amount_minor", "every", "times")
    return {"rows": [row | {"due_on": row["due_on"].isoformat()} for row in rows]}


def _write_payments(deal: Deal, value: Value, who: Who) -> None:
    deal.payments.all().delete()
    Payment.objects.bulk_create(
        Payment(deal=deal, **(row | {"due_on": date.fromisoformat(row["due_on"])})) for row in value["rows"]
    )
    attributes_changed()


def _contacts(deal: Deal, today: date) -> Value:
    rows = deal.contacts.order_by("contact__key").values_list("contact__key", "role")
    return {"rows": [{"contact": key, "role": role} for key, role in rows]}


def _write_contacts(deal: Deal, value: Value, who: Who) -> None:
    deal.contacts.all().delete()
    DealContact.objects.bulk_create(
        DealContact(deal=deal, contact=Contact.objects.get(key=row["contact"]), role=row["role"])
        for row in value["rows"]
    )


def _credits(deal: Deal, today: date) -> Value:
    """The shares in force: those of the last day not after `today`, else those without a day."""
    rows = list(deal.credits.order_by("person__key").select_related("person"))
    begun = [row.from_on for row in rows if row.from_on is None or row.from_on <= today]
    newest = max(begun, key=lambda day: day or date.min, default=None)
    shares = [row for row in rows if row.from_on == newest] if begun else []
    return {"rows": [{"person": row.person.key, "share_bp": row.share_bp} for row in shares]}


def _write_credits(deal: Deal, value: Value, who: Who) -> None:
    people = {person.key: person for person in Person.objects.filter(key__in=[r["person"] for r in value["rows"]])}
    shares = {people[row["person"]]: row["share_bp"] for row in value["rows"]}
    shares = shares or {last_revision(deal).owner: 10_000}
    set_credits(who.viewer, who.reference, deal, shares, local_day(who.now, who.reference.time_zone), who.now)


PARTS = {
    "details": Part("details", _details, _write_details),
    "next": Part("next step", _next, _write_next),
    "lines": Part("lines", _lines, _write_lines),
    "payments": Part("payments", _payments, _write_payments),
    "contacts": Part("contacts", _contacts, _write_contacts),
    "credits": Part("credit", _credits, _write_credits),
}


def part_text(deal: Deal, name: str, today: date) -> str:
    """A part as one text; forms carry it so that an edit made on an old state is noticed."""
    return as_text(PARTS[name].read(deal, today))


@transaction.atomic
def change_part(who: Who, deal: Deal, name: str, value: Mapping[str, Any], expected: str) -> tuple[str, str]:
    """Save a part of a deal; returns it as text before and after.

    Raises ChangedMeanwhile where it is no longer as `expected`, WriteRefused, StageRefused or PermissionDenied, and then
    changes nothing.
    """
    require_deal(who.viewer, who.reference, deal, local_day(who.now, who.reference.time_zone))
    deal.refresh_from_db()
    part = PARTS[name]
    present = part.read(deal, local_day(who.now, who.reference.time_zone))
    before, after = as_text(present), as_text(value)
    if expected and before not in (expected, after):
        raise ChangedMeanwhile(present)
    if before != after:
        part.write(deal, dict(value), who)
        audit(who.viewer, f"deal {part.words} changed", deal.key, who.now, before, after)
    return before, after


@transaction.atomic
def put_part_back(who: Who, deal: Deal, name: str, saved: Mapping[str, Any]) -> None:
    """Put a part back as it was `before`, if it is still as `after`; with lines the amount that they had changed, too."""
    if saved["revision"]:
        revert(who.viewer, who.reference, deal, saved["revision"], who.now)
        # The flag that goes with the amount belongs to the part, which is compared with `after`.
        Deal.objects.filter(pk=deal.pk).update(amount_from_lines=expected_values(saved["after"])["from_lines"])
    before = expected_values(saved["before"])
    change_part(who, deal, name, before, saved["after"])
    if name == "credits" and not before["rows"]:
        # There was no division before: the deal is its owner's again, whoever that will be.
        deal.credits.all().delete()
