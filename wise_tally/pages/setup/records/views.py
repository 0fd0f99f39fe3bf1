"""Pages of what was written down: audit, outbox, backups."""

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from pathlib import Path

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import logout
from django.core.paginator import Paginator
from django.db.models import QuerySet
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.domain.database import is_file
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.audit_words import change_in_words, entries_of, people_of
from wise_tally.domain.org.clock import now, zone
from wise_tally.domain.org.models import AuditEntry, OutboxMessage
from wise_tally.operation.backup import NAME, OF_THE_SERVER, BackupRefused, backups_made, folder, make_backup, too_old
from wise_tally.operation.restoring import losses, restore_backup
from wise_tally.web.audit_entries import about, audit_lines, person_in_words
from wise_tally.web.files.tables import Sheet, exports, sheet_response
from wise_tally.web.page_query import OwnQuery, one_day, text
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

ON_A_PAGE = 50
MOST_IN_A_FILE = 20_000


@dataclass(frozen=True)
class AuditQuery(OwnQuery):
    """Whose entries, with which words, from when to when."""

    who: str = text(300)
    find: str = text(100)
    first: date | None = one_day(name="from")
    last: date | None = one_day(name="to")

    def entries(self) -> QuerySet[AuditEntry]:
        """The entries, the newest first."""
        first, after = (datetime.combine(day, time(), zone()) if day else None for day in (self.first, self.last))
        if after:
            after += timedelta(days=1)
        return entries_of(self.who, self.find, first, after, about)


@require_safe
@all_needs(May.READ_RECORDS)
def audit(request: PageRequest) -> HttpResponse:
    """Who changed what when, a sentence each; narrowed by person, words and days."""
    query = AuditQuery(**AuditQuery.values(request.GET))
    page = Paginator(query.entries(), ON_A_PAGE).get_page(request.GET.get("page"))
    answer = {
        "entries": page,
        "lines": audit_lines(page),
        "page_query": query,
        "people": [(who, person_in_words(who)) for who in people_of()],
        "files": exports("setup:audit-table", query.query()),
    }
    return render(request, "setup/audit.html", answer)


@require_safe
@all_needs(May.READ_RECORDS)
def audit_table(request: PageRequest, kind: str) -> HttpResponse:
    """All found entries as a file, in words and with the whole values before and after."""
    entries = AuditQuery(**AuditQuery.values(request.GET)).entries()
    if (number := entries.count()) > MOST_IN_A_FILE:
        raise Refused(
            f"{plural(number, 'entry')} are too many for one file (limit {MOST_IN_A_FILE}). Search to narrow them down.",
            422,
        )
    rows = [
        (e.at.isoformat(), e.who or "System", e.action, e.detail, change_in_words(e), e.before, e.after)
        for e in entries
    ]
    header = ("when", "who", "what", "which", "change", "before", "after")
    return sheet_response(Sheet("audit", header, frozenset(), rows), kind)


@require_safe
@all_needs(May.READ_RECORDS)
def outbox(request: PageRequest) -> HttpResponse:
    """Messages of the simulated mail."""
    page = Paginator(OutboxMessage.objects.order_by("-pk"), ON_A_PAGE).get_page(request.GET.get("page"))
    return render(request, "setup/outbox.html", {"entries": page})


@require_safe
@all_needs(May.READ_RECORDS)
def document(request: PageRequest, number: int) -> HttpResponse:
    """The document that goes with a message, for print."""
    message = get_object_or_404(OutboxMessage.objects.exclude(document=""), pk=number)
    return HttpResponse(message.document)


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def backups(request: PageRequest) -> HttpResponse:
    """All backups; make one, or put one back."""
    if request.method == "POST":
        try:
            return _make_or_restore(request)
        except BackupRefused as refused:
            raise Refused(str(refused), 409) from refused
    answer = {"backups": backups_made(), "too_old": too_old(), "kept": settings.BACKUPS_KEPT, "folder": folder()}
    answer["elsewhere"] = "" if is_file() else OF_THE_SERVER
    return render(request, "setup/backups.html", answer)


def _make_or_restore(request: PageRequest) -> HttpResponse:
    what = request.POST.get("what")
    if what == "make":
        messages.success(request, f"{make_backup(now()).name} was created and checked.")
        return redirect("setup:backups")
    if what != "restore":
        raise BackupRefused("Choose to create or to restore a backup.")
    path = _backup_of(request.POST.get("name", ""))
    if "confirmed" not in request.POST:
        return render(request, "setup/restore.html", {"name": path.name, "lost": losses(path)})
    before = restore_backup(request.viewer, path, now())
    # Everybody signs in anew: whoever had a sign-in then need not have one now.
    logout(request)
    messages.success(request, f"Backup restored. The previous data was saved as {before.name}.")
    return redirect("sign-in")


def _backup_of(name: str) -> Path:
    path = folder() / name
    if not NAME.fullmatch(name) or not path.exists():
        raise BackupRefused(f"“{name[:80]}” is not a backup. Choose one from the list.")
    return path
