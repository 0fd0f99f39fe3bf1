"""What was sent is done once: a mark for each form that is being done or was."""

from datetime import datetime, timedelta

from wise_tally.domain.org.models import SentForm

REMEMBERED = timedelta(days=1)


def begin_form(mark: str, now: datetime) -> bool:
    """Whether nobody began with this one; then nobody else will."""
    return SentForm.objects.get_or_create(mark=mark, defaults={"sent_at": now})[1]


def form_led_to(mark: str) -> str:
    """Where it led; empty while it is being done, or where nobody began."""
    return SentForm.objects.filter(mark=mark).values_list("led_to", flat=True).first() or ""


def end_form(mark: str, led_to: str) -> None:
    """It led to an address; to none where nothing was done, so that it may be sent again."""
    begun = SentForm.objects.filter(mark=mark)
    if led_to:
        begun.update(led_to=led_to)
    else:
        begun.delete()


def forget_forms(now: datetime) -> None:
    """Nobody sends a form of yesterday twice."""
    SentForm.objects.filter(sent_at__lt=now - REMEMBERED).delete()
