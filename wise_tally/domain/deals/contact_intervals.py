"""How often customers of open deals are to be contacted: the firm's own, by class of account or process."""

from collections.abc import Mapping
from datetime import datetime

from django.db import transaction

from wise_tally.core.customer import CONTACT_INTERVAL_DAYS
from wise_tally.domain.deals.models import Account, ContactInterval, Deal
from wise_tally.domain.org.access import May, Viewer
from wise_tally.domain.org.actions import audit

PROCESS, INDUSTRY = SUBJECTS = ("process", "industry")
MOST_DAYS = 1_000
Subject = tuple[str, str]


def industries() -> list[str]:
    """The classes of accounts that there are, by name."""
    names = Account.objects.exclude(industry="").order_by("industry").values_list("industry", flat=True)
    return list(names.distinct())


def saved_intervals() -> dict[Subject, int]:
    """Days by subject; who is not among them has the usual ones."""
    rows = ContactInterval.objects.values_list("subject", "subject_key", "days")
    return {(subject, key): days for subject, key, days in rows}


def interval_of(deal: Deal) -> int:
    """Days between contacts for a deal: those of its account's class, else of its process, else the usual ones."""
    saved = saved_intervals()
    industry = deal.account.industry if deal.account else ""
    return saved.get((INDUSTRY, industry)) or saved.get((PROCESS, deal.process.key)) or CONTACT_INTERVAL_DAYS


@transaction.atomic
def set_intervals(viewer: Viewer, days: Mapping[Subject, int | None], now: datetime) -> int:
    """Keep the days of each subject, None going back to the usual ones; returns how many changed."""
    viewer.require(May.SET_RULES)
    saved, changed = saved_intervals(), 0
    for (subject, key), value in days.items():
        if saved.get((subject, key)) == value:
            continue
        rows = ContactInterval.objects.filter(subject=subject, subject_key=key)
        if value is None:
            rows.delete()
        else:
            ContactInterval.objects.update_or_create(subject=subject, subject_key=key, defaults={"days": value})
        was, is_now = (str(one or CONTACT_INTERVAL_DAYS) for one in (saved.get((subject, key)), value))
        audit(viewer, "contact interval set", f"{subject} {key}", now, was, is_now)
        changed += 1
    return changed
