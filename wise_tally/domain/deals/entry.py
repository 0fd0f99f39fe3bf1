"""Entering a stage: what is still missing before, and the messages once a deal has entered."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

from babel.numbers import get_currency_precision
from django.db import transaction
from django.template.loader import render_to_string

from wise_tally.core.money import line_amount
from wise_tally.domain.deals.models import Deal, DealAnswer, DealLine, DealRevision, OwnField, OwnFieldValue
from wise_tally.domain.formats import money
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.book_number import attributes_changed, old_rows_changed
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import OutboxMessage, Person, Role, Team, Workspace
from wise_tally.domain.org.typed_days import typed_day
from wise_tally.domain.process.check_language import Facts, missing, read_check
from wise_tally.domain.process.models import Document, EntryCheck, Stage, StageKind, StageNotice
from wise_tally.domain.refusals import WriteRefused
from wise_tally.domain.typed_numbers import typed_number

ROLE_WORDS = {Role.ADMIN: "administrator", Role.MANAGER: "manager", Role.REP: "rep", Role.VIEWER: "viewer"}


def own_field_kinds() -> dict[str, str]:
    """Own fields of deals by name, with their kinds."""
    return dict(OwnField.objects.filter(applies_to="deal").values_list("name", "kind"))


def facts_of(deal: Deal, state: DealRevision, viewer: Viewer, today: date) -> Facts:
    """What is known of a deal as `state` (kept or not) would have it."""
    kinds = own_field_kinds()
    own = OwnFieldValue.objects.filter(subject_key=deal.key, field__applies_to="deal").values_list(
        "field__name", "value"
    )
    decimals = get_currency_precision(Workspace.current().currency)
    values: dict[str, object] = {
        "amount": Decimal(state.amount_minor).scaleb(-decimals),
        "probability": None if state.probability_bp is None else Decimal(state.probability_bp) / 100,
        "expected close": state.expected_close,
        "account": deal.account_id,
        "contact": deal.contact_id,
        "partner": deal.partner_id,
        "territory": state.territory_id,
        "deal type": deal.deal_type,
        "source": deal.source,
        "campaign": deal.campaign,
        "next step": deal.next_step,
        "lost reason": state.lost_reason,
        "category": state.category_id,
        "products": deal.lines.count(),
        **{name: date.fromisoformat(value) if kinds[name] == "date" else value for name, value in own},
    }
    done = deal.activities.exclude(status="planned").values_list("kind", flat=True).distinct()
    return Facts(
        values,
        today,
        ROLE_WORDS.get(Role(viewer.role), viewer.role),
        viewer.key,
        dict(deal.answers.values_list("question", "answer")),
        frozenset(kind.replace("_", " ") for kind in done),
    )


# Details of a deal that can be typed where a stage or a closing asks for them; the book holds IN_THE_BOOK.
DETAILS = {
    "next step": "next_step",
    "campaign": "campaign",
    "source": "source",
    "deal type": "deal_type",
    "competitor": "competitor",
}
IN_THE_BOOK = ("source", "deal_type")


@dataclass(frozen=True)
class Lacking:
    """What an entry check misses: in words, and what can be typed to meet it (an answer or a detail), if anything."""

    words: str
    asks: str = ""
    name: str = ""


def missing_before(stages: Sequence[Stage], facts: Facts) -> dict[int, list[Lacking]]:
    """What the entry checks of each stage (by its number) still miss, in their order."""
    kinds, people = own_field_kinds(), frozenset(Person.objects.values_list("key", flat=True))
    by_stage: dict[int, list[Lacking]] = {stage.pk: [] for stage in stages}
    checks = EntryCheck.objects.filter(stage__in=by_stage).order_by("position")
    for stage_id, text in checks.values_list("stage_id", "text"):
        check = read_check(text, kinds, people)
        if words := missing(check, facts):
            can_type = check.subject in DETAILS or check.subject in kinds
            asks = "answer" if check.asks == "answered" else "detail" if can_type else ""
            by_stage[stage_id].append(Lacking(words, asks, check.subject))
    return by_stage


def skipped_before(deal: Deal, present: Stage, target: Stage) -> list[str]:
    """Stages not to be skipped that a deal has not stood in, between where it stands and where it goes."""
    if target.kind == StageKind.LOST:
        return []
    required = deal.process.stages.filter(required=True, retired=False, kind=StageKind.OPEN)
    if target.kind == StageKind.OPEN:
        required = required.filter(position__lt=target.position)
    stood = set(deal.revisions.filter(void=False).values_list("stage_id", flat=True)) | {present.pk, target.pk}
    return [f"{stage.name} must not be skipped" for stage in required.order_by("position") if stage.pk not in stood]


def keep_details(deal: Deal, details: Mapping[str, str]) -> dict[str, Any]:
    """Keep details and own fields typed where a stage asks for them; returns what was there before, raises WriteRefused."""
    own = {own_field.name: own_field for own_field in OwnField.objects.filter(applies_to="deal")}
    typed = {name: text.strip() for name, text in details.items() if text.strip()}
    columns = {DETAILS[name]: text[:10_000] for name, text in typed.items() if name in DETAILS}
    values = {own[name].key: own_value(own[name], text) for name, text in typed.items() if name in own}
    present = dict(
        OwnFieldValue.objects.filter(subject_key=deal.key, field__key__in=list(values)).values_list(
            "field__key", "value"
        )
    )
    before = {
        "details": {column: getattr(deal, column) for column in columns},
        "own": {key: present.get(key) for key in values},
    }
    write_details(deal, {"details": columns, "own": values})
    return before


def write_details(deal: Deal, details: Mapping[str, Mapping[str, str | None]]) -> None:
    """Give a deal details by column, and own fields by identifier; None takes a value away."""
    columns, own = details.get("details", {}), details.get("own", {})
    if columns:
        Deal.objects.filter(pk=deal.pk).update(**columns)
        deal.refresh_from_db(fields=list(columns))
    if set(columns) & set(IN_THE_BOOK):
        old_rows_changed()
    for field in OwnField.objects.filter(key__in=list(own)):
        if own[field.key] is None:
            OwnFieldValue.objects.filter(field=field, subject_key=deal.key).delete()
        else:
            values = {"value": own[field.key]}
            OwnFieldValue.objects.update_or_create(field=field, subject_key=deal.key, defaults=values)
    if columns or own:
        attributes_changed()


def own_value(field: OwnField, text: str) -> str:
    """A typed value of an own field as kept; raises WriteRefused with what is accepted."""
    if field.kind == "choice" and text not in field.choices.split(";"):
        raise WriteRefused(
            f"{field.name}: “{text[:40]}” is not one of the options. Choose one of: {field.choices.replace(';', ', ')}."
        )
    if field.kind in ("number", "date"):
        read = typed_number(text) if field.kind == "number" else typed_day(text)
        if isinstance(read, str):
            raise WriteRefused(f"{field.name}: {read}")
        return f"{read:f}" if isinstance(read, Decimal) else read.isoformat()
    return text[:10_000]


def keep_answers(deal: Deal, answers: Mapping[str, str], viewer: Viewer, now: datetime) -> dict[str, Any]:
    """Keep answers to questions that entry checks ask; returns those that were there before, by question."""
    answered = [question for question, answer in answers.items() if answer.strip()]
    rows = deal.answers.filter(question__in=answered).values_list("question", "answer", "by", "at")
    present = {question: (answer, by, row.timestamp()) for question, answer, by, row in rows}
    for question, answer in answers.items():
        if answer.strip():
            values = {"answer": answer.strip()[:10_000], "by": viewer.key, "at": now}
            DealAnswer.objects.update_or_create(deal=deal, question=question, defaults=values)
    return {question: present.get(question) for question in answered}


@transaction.atomic
def tick_entry(viewer: Viewer, deal: Deal, entry: str, done: bool, now: datetime) -> None:
    """Tick an entry of a checklist, or take the tick away; ticks are answers kept with the deal."""
    before = deal.answers.filter(question=entry).values_list("answer", flat=True).first() or ""
    keep_answers(deal, {entry: "yes" if done else "no"}, viewer, now)
    audit(viewer, f"checklist {'ticked' if done else 'unticked'}", deal.key, now, before, entry)


def restore_answers(deal: Deal, answers: Mapping[str, Any]) -> None:
    """Put answers back that `keep_answers` replaced; a question that had none loses its answer."""
    for question, before in answers.items():
        if before is None:
            deal.answers.filter(question=question).delete()
        else:
            values = {"answer": before[0], "by": before[1], "at": datetime.fromtimestamp(before[2], UTC)}
            DealAnswer.objects.update_or_create(deal=deal, question=question, defaults=values)


def send_notices(revision: DealRevision, now: datetime) -> int:
    """Put the messages of the stage just entered into the outbox; returns how many."""
    notices = list(revision.stage.notices.order_by("key"))
    details = _details(revision) if notices else {}
    for notice in notices:
        name, text = document_of(revision, notice.document, now)
        OutboxMessage.objects.create(
            at=now,
            to=", ".join(_recipients(notice, revision.owner)),
            subject=_filled(notice.subject, details)[:200],
            body=_filled(notice.body, details),
            document_name=name,
            document=text,
            deal_key=revision.deal.key,
        )
    return len(notices)


def _details(revision: DealRevision) -> dict[str, str]:
    deal = revision.deal
    return {
        "deal": deal.name,
        "amount": f"{money(revision.amount_minor)} {Workspace.current().currency}",
        "stage": revision.stage.name,
        "account": deal.account.name if deal.account else "no account",
        "owner": revision.owner.name,
        "expected_close": revision.expected_close.isoformat() if revision.expected_close else "no date",
    }


def _filled(text: str, details: Mapping[str, str]) -> str:
    for name, value in details.items():
        text = text.replace("{" + name + "}", value)
    return text


def _recipients(notice: StageNotice, owner: Person) -> list[str]:
    addresses: list[str] = []
    for line in notice.recipients.splitlines():
        if line == "owner":
            addresses.append(_address(owner))
        elif line == "manager":
            team = owner.memberships.order_by("-from_on").first()
            managed: Team | None = team.team if team else owner.team
            addresses += [_address(managed.manager)] if managed and managed.manager else []
        elif line == "administrators":
            addresses += [_address(person) for person in Person.objects.filter(role=Role.ADMIN).order_by("key")]
        else:
            person = Person.objects.filter(key=line).first()
            addresses.append(_address(person) if person else line)
    return list(dict.fromkeys(addresses))


def _address(person: Person) -> str:
    return f"{person.name} <{person.email}>" if person.email else person.name


def document_of(revision: DealRevision, kind: str, now: datetime) -> tuple[str, str]:
    """Name and text of a printable offer or draft invoice made from the deal's lines; empty for no document."""
    if not kind:
        return "", ""
    lines = list(DealLine.objects.filter(deal=revision.deal).select_related("product").order_by("pk"))
    rows = [(n, line_amount(n.quantity_10000ths, n.unit_price_minor, n.discount_bp or 0)) for n in lines]
    title = "Quote" if kind == Document.OFFER else "Draft invoice"
    answer = {
        "title": title,
        "deal": revision.deal,
        "rows": rows,
        "total": sum(total for _, total in rows) if rows else revision.amount_minor,
        "workspace": Workspace.current(),
        "day": local_day(now),
    }
    return f"{title} {revision.deal.name}"[:200], render_to_string("documents/document.html", answer)
