"""What stands beside a person or partner: rates, teams by date, what is owned, what a viewer may read."""

from typing import Any

from wise_tally.deals.handover import owned_by
from wise_tally.org.clock import today
from wise_tally.org.models import CommissionRate, Person, Role, Team


def more_of(slug: str, record: Any) -> dict[str, Any]:
    """More for the page of one person or partner; nothing for other lists."""
    if slug not in ("people", "partners"):
        return {}
    subject = "person" if slug == "people" else "partner"
    rates = CommissionRate.objects.filter(subject=subject, subject_key=record.key).order_by("from_on")
    more: dict[str, Any] = {"rates": rates, "today": today().isoformat()}
    if slug == "people":
        more |= {
            "above": record.rates_above.order_by("from_on"),
            "memberships": record.memberships.select_related("team").order_by("from_on"),
            "owned": owned_by(record),
            "takers": Person.objects.exclude(pk=record.pk).filter(active_to=None).order_by("name"),
            "reads_only": record.role == Role.VIEWER,
            "teams": Team.objects.order_by("name"),
            "opened": set(record.openings.values_list("team__key", flat=True)),
        }
    return more
