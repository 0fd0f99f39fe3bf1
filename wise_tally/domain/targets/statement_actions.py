"""Statements of commissions: handed out once, kept as they were."""

from datetime import date, datetime
from typing import Any

from django.db import transaction

from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit
from wise_tally.domain.targets.models import CommissionStatement


def last_statement(subject: str, key: str, starts_on: date, ends_on: date) -> CommissionStatement | None:
    """The statement last handed out for exactly this subject and span."""
    statements = CommissionStatement.objects.filter(
        subject=subject, subject_key=key, starts_on=starts_on, ends_on=ends_on
    )
    return statements.order_by("issued_at", "pk").last()


@transaction.atomic
def issue_statement(
    viewer: Viewer, whose: tuple[str, str], span: tuple[date, date], lines: list[list[Any]], now: datetime
) -> CommissionStatement:
    """Keep what is handed out to a subject (kind and identifier) for a span; raises PermissionDenied."""
    viewer.require(May.SET_RULES)
    subject, key = whose
    statement = CommissionStatement.objects.update_or_create(
        subject=subject,
        subject_key=key,
        starts_on=span[0],
        ends_on=span[1],
        issued_at=now.replace(microsecond=0),
        defaults={"issued_by": viewer.key, "lines": lines},
    )[0]
    audit(
        viewer,
        "commission statement",
        f"{subject} {key} {span[0]}/{span[1]}",
        now,
        after=f"{plural(len(lines), 'line')}",
    )
    return statement
