"""What stands beside a person or partner: rates, teams by date, what is owned, what a viewer may read."""

from typing import Any

from wise_tally.book.store import books
from wise_tally.domain.deals.handover import owned_by
from wise_tally.domain.org.access import Viewer, sees_partners_pay, sees_pay
from wise_tally.domain.org.clock import today
from wise_tally.domain.org.models import CommissionRate, Person, Role, Team


def more_of(viewer: Viewer, slug: str, record: Any) -> dict[str, Any]:
    """More for the page of one person or partner, with the rates where the viewer may know them; nothing for other lists."""
    if slug not in ("people", "partners"):
        return {}
    reference, day = books.current().reference, today()
    is_person = slug == "people"
    pay = sees_pay(viewer, reference, day, record.key) if is_person else sees_partners_pay(viewer, reference, day)
    more: dict[str, Any] = {"today": day.isoformat(), "sees_pay": pay}
    if pay:
        rates = CommissionRate.objects.filter(subject="person" if is_person else "partner", subject_key=record.key)
        more["rates"] = rates.order_by("from_on")
        more["above"] = record.rates_above.order_by("from_on") if is_person else []
    if is_person:
        more |= {
            "memberships": record.memberships.select_related("team").order_by("from_on"),
            "owned": owned_by(record),
            "takers": Person.objects.exclude(pk=record.pk).filter(active_to=None).order_by("name"),
            "reads_only": record.role == Role.VIEWER,
            "teams": Team.objects.order_by("name"),
            "opened": set(record.openings.values_list("team__key", flat=True)),
        }
    return more
