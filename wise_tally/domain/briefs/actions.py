"""What people do with briefs: put a finding aside, keep a brief, set bounds, have it by mail."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime

from django.core.exceptions import PermissionDenied
from django.db import transaction

from wise_tally.core.findings.bounds import BOUNDS, USUAL
from wise_tally.domain.briefs.models import Bound, Digest, KeptBrief, PutAside
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import as_text, new_key
from wise_tally.domain.refusals import WriteRefused

MOST_REASON = 500


def _person(viewer: Viewer) -> Person:
    person = Person.objects.filter(key=viewer.key).first()
    if person is None:
        raise PermissionDenied("Only people of this workspace have a brief; ask an administrator to add you.")
    return person


@dataclass(frozen=True)
class Settled:
    """A finding that somebody puts aside: its identifier, the money at stake now, and its sentence."""

    finding: str
    amount_minor: int
    words: str


@transaction.atomic
def put_aside(viewer: Viewer, what: Settled, until: date | None, reason: str, now: datetime, today: date) -> None:
    """Keep a finding out of one's brief until a day, or until it changes materially. Raises WriteRefused."""
    person, reason = _person(viewer), reason.strip()
    if until is not None and until <= today:
        raise WriteRefused("Choose a day after today.")
    if len(reason) > MOST_REASON:
        raise WriteRefused(f"Shorten the reason to {MOST_REASON} characters.")
    values = {
        "until": until,
        "reason": reason,
        "amount_minor": what.amount_minor,
        "words": what.words[:1_000],
        "at": now,
    }
    PutAside.objects.update_or_create(person=person, finding=what.finding[:200], defaults=values)
    audit(viewer, "finding put aside", what.finding, now, after=f"until {until}" if until else "seen")


@transaction.atomic
def take_back(viewer: Viewer, finding: str, now: datetime) -> None:
    """Let a finding into one's brief again."""
    put_aside = PutAside.objects.filter(person__key=viewer.key, finding=finding)
    if put_aside.exists():
        put_aside.delete()
        audit(viewer, "finding taken back", finding, now)


@dataclass(frozen=True)
class BriefContent:
    """The content of a brief, ready to be saved: whose deals, the period, the day and its content as JSON."""

    who: str
    period: str
    as_of: date
    content: str


@transaction.atomic
def keep_brief(viewer: Viewer, brief: BriefContent, why: str, now: datetime) -> KeptBrief:
    """Freeze a brief; one of the same day and reason stays as it was kept first."""
    person = _person(viewer)
    same = KeptBrief.objects.filter(by=person, who=brief.who, as_of=brief.as_of, why=why).first()
    if same is not None:
        return same
    key = new_key(KeptBrief, f"{viewer.key} {brief.as_of:%Y%m%d} {brief.who}")
    values = {"who": brief.who, "period": brief.period, "as_of": brief.as_of, "why": why, "content": brief.content}
    saved = KeptBrief.objects.create(key=key, by=person, kept_at=now, **values)
    audit(viewer, "brief kept", key, now, after=why)
    return saved


@transaction.atomic
def set_bounds(viewer: Viewer, wanted: Mapping[str, float], now: datetime) -> None:
    """Set the bounds of findings; one as usual is no longer kept. Raises PermissionDenied, or WriteRefused with what is accepted."""
    viewer.require(May.SET_RULES)
    before = dict(Bound.objects.values_list("name", "value"))
    for name, value in wanted.items():
        about = BOUNDS[name].metadata
        if not about["least"] <= value <= about["most"]:
            raise WriteRefused(f"{about['words']}: enter a number from {about['least']:g} to {about['most']:g}.")
        if value == BOUNDS[name].default:
            Bound.objects.filter(name=name).delete()
        else:
            Bound.objects.update_or_create(name=name, defaults={"value": value})
    after = dict(Bound.objects.values_list("name", "value"))
    if before != after:
        audit(viewer, "bounds of findings set", "", now, _as_set(before), _as_set(after))


def _as_set(bounds: Mapping[str, float]) -> str:
    """All bounds as the page writes them, by their words."""
    by_words = {}
    for name, value in {**USUAL, **bounds}.items():
        about = BOUNDS[name].metadata
        by_words[f"{about['words']}, {about['unit']}"] = value * 100 if about["unit"] == "%" else value
    return as_text(by_words)


@transaction.atomic
def set_digest(viewer: Viewer, days: Sequence[int], hour: int, who: str, now: datetime) -> None:
    """Have one's brief by mail on these weekdays from an hour on; without days no more. Raises WriteRefused."""
    person = _person(viewer)
    if not days:
        stop_digest(person, viewer, now)
        return
    if not person.email:
        raise WriteRefused("There is no e-mail address of yours. Ask an administrator to add it under Setup, People.")
    text = ",".join(str(day) for day in sorted(set(days)))
    values = {"days": text, "hour": hour, "who": who}
    digest, is_new = Digest.objects.get_or_create(
        person=person, defaults={**values, "token": secrets.token_urlsafe(32)}
    )
    if not is_new:
        Digest.objects.filter(pk=digest.pk).update(**values)
    audit(viewer, "brief by mail", person.key, now, after=f"days {text}, from {hour}:00")


def stop_digest(person: Person, viewer: Viewer, now: datetime) -> None:
    """No more brief by mail; the link of a mail stops it without signing in."""
    if Digest.objects.filter(person=person).delete()[0]:
        audit(viewer, "brief by mail stopped", person.key, now)


def claim(digest: Digest, today: date) -> bool:
    """Take a mail of a day as one's own to send; False where another process has it, or had it, already."""
    free = Digest.objects.filter(pk=digest.pk).exclude(last_on=today)
    return bool(free.update(last_on=today))
