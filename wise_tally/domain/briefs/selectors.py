"""What is kept of briefs."""

from datetime import date, datetime

from django.db.models import QuerySet

from wise_tally.core.findings.bounds import BOUNDS, Bounds
from wise_tally.core.findings.put_aside import Aside
from wise_tally.domain.briefs.models import Bound, Digest, KeptBrief, PutAside
from wise_tally.domain.org.access import Viewer


def bounds_in_force() -> Bounds:
    """The usual bounds with those that the firm set otherwise."""
    saved = dict(Bound.objects.values_list("name", "value"))
    return Bounds(**{name: value for name, value in saved.items() if name in BOUNDS})


def asides_of(viewer: Viewer, before: datetime) -> dict[str, Aside]:
    """What somebody put aside before a moment, by the identifier of the finding."""
    asides = PutAside.objects.filter(person__key=viewer.key, at__lt=before)
    return {aside.finding: Aside(aside.amount_minor, aside.until) for aside in asides}


def saved_briefs(viewer: Viewer, who: str) -> QuerySet[KeptBrief]:
    """Briefs that somebody kept of a scope, the latest first."""
    return KeptBrief.objects.filter(by__key=viewer.key, who=who).order_by("-as_of", "-kept_at")


def last_brief(viewer: Viewer, who: str, before: date) -> KeptBrief | None:
    """The last brief kept of a scope before a day."""
    return saved_briefs(viewer, who).filter(as_of__lt=before).first()


def digests_due(weekday: int, hour: int, today: date) -> QuerySet[Digest]:
    """Mails due at an hour of a weekday (Monday 0) that were not sent for that day yet."""
    due = Digest.objects.filter(days__contains=str(weekday), hour__lte=hour).exclude(last_on=today)
    return due.select_related("person").order_by("person__key")
