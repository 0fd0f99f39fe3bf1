"""The brief as a mail: the same sentences and links as HTML and text, for the rights of its receiver."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from zoneinfo import ZoneInfo

from django.conf import settings
from django.core.mail import EmailMultiAlternatives, get_connection
from django.template.loader import render_to_string
from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.domain.briefs.actions import claim
from wise_tally.domain.briefs.models import Digest
from wise_tally.domain.briefs.selectors import digests_due
from wise_tally.domain.formats import day, use_workspace
from wise_tally.domain.org.access import Viewer, has_left, viewer_of
from wise_tally.domain.org.actions import audit
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import OutboxMessage, Workspace
from wise_tally.web.filter_line import scope_of
from wise_tally.web.findings.brief import Brief, brief_for, keep_todays
from wise_tally.web.visibility import Visibility


@dataclass(frozen=True)
class Mail:
    """A mail ready to go: to whom, its subject, and its body as text and as HTML."""

    to: str
    subject: str
    text: str
    html: str
    unsubscribe: str


@dataclass(frozen=True)
class Sent:
    """The outcome of a mail that was due: sent, passed over or failed, and why."""

    to: str
    outcome: str
    why: str = ""


def site(path: str) -> str:
    """An address of the application as a mail needs it."""
    return settings.SITE_ADDRESS.rstrip("/") + path


def mail_of(digest: Digest, viewer: Viewer) -> tuple[Mail, Brief]:
    """The mail of a digest; raises PermissionDenied where the receiver may no longer see that scope."""
    line = scope_of(viewer, {"who": digest.who} if digest.who else {})
    brief = brief_for(line, viewer, Visibility(viewer, books.stored()))
    unsubscribe = site(reverse("brief:unsubscribe", args=[digest.token]))
    context = {
        "brief": brief,
        "rows": brief.chosen,
        "headlines": brief.headlines,
        "name": digest.person.name,
        "site": settings.SITE_ADDRESS.rstrip("/"),
        "page": site(f"{reverse('brief:page')}?{line.query()}"),
        "unsubscribe": unsubscribe,
    }
    subject = f"Brief for {line.who_label}, {line.as_of:%A} {day(line.as_of)}"
    text, html = (render_to_string(f"brief/mail.{kind}", context).strip() + "\n" for kind in ("txt", "html"))
    return Mail(digest.person.email, subject, text, html, unsubscribe), brief


def deliver(mail: Mail, viewer: Viewer, now: datetime) -> None:
    """Through the operator's mail server where one is set, else into the outbox. Raises what the server's connection raises."""
    if settings.EMAIL_URL:
        message = EmailMultiAlternatives(
            mail.subject,
            mail.text,
            settings.DEFAULT_FROM_EMAIL,
            [mail.to],
            # RFC 8058: a mail program may unsubscribe with one click of its own.
            headers={
                "List-Unsubscribe": f"<{mail.unsubscribe}>",
                "List-Unsubscribe-Post": "List-Unsubscribe=One-Click",
            },
            connection=get_connection(),
        )
        message.attach_alternative(mail.html, "text/html")
        message.send()
    else:
        named = {"document_name": "brief.html", "document": mail.html}
        OutboxMessage.objects.create(at=now, to=mail.to, subject=mail.subject[:200], body=mail.text, **named)
    audit(viewer, "brief sent", mail.to, now, after=mail.subject)


def send_due(now: datetime) -> Iterator[Sent]:
    """Send every brief due at a moment, each at most once a day.

    A mail is claimed before it goes out: two schedulers never send it twice, and one that broke off is not sent again that day. One that
    the mail server refused is let go again; nothing is kept of it.
    """
    workspace = Workspace.current()
    use_workspace(workspace.currency, workspace.time_zone, workspace.decimal_sign, workspace.day_order)
    today, local = local_day(now), now.astimezone(ZoneInfo(workspace.time_zone))
    for digest in digests_due(today.weekday(), local.hour, today):
        before = digest.last_on
        if has_left(digest.person, today) or not digest.person.email:
            yield Sent(digest.person.name, "passed over", "has left or has no e-mail address")
            continue
        if not claim(digest, today):
            continue
        viewer = viewer_of(digest.person)
        try:
            mail, brief = mail_of(digest, viewer)
            # Outside a transaction: nobody's writing waits for a slow mail server.
            deliver(mail, viewer, now)
        except Exception as error:
            Digest.objects.filter(pk=digest.pk).update(last_on=before)
            yield Sent(digest.person.name, "failed", " ".join(str(error).split())[:300])
            continue
        keep_todays(brief.line, viewer, Visibility(viewer, books.stored()), "mail", now)
        yield Sent(mail.to, "sent", mail.subject)
