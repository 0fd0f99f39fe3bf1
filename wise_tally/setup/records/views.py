"""Pages of what was written down: audit, outbox, backups."""

from urllib.parse import urlencode

from django.contrib import messages
from django.contrib.auth import logout
from django.core.paginator import Paginator
from django.db.models import QuerySet
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_safe

from wise_tally.org.access import May
from wise_tally.org.clock import now
from wise_tally.org.models import AuditEntry, OutboxMessage
from wise_tally.scope.backup import BackupRefused, kept, make_backup, restore_backup
from wise_tally.scope.guard import all_needs
from wise_tally.scope.tables import Sheet, exports, sheet_response
from wise_tally.ui.refusals import Refused

ON_A_PAGE = 50
MOST_IN_A_FILE = 20_000


@require_safe
@all_needs(May.READ_RECORDS)
def audit(request: HttpRequest) -> HttpResponse:
    """Who changed what when, with the values before and after; found by words."""
    find, entries = _audit_found(request)
    page = Paginator(entries, ON_A_PAGE).get_page(request.GET.get("page"))
    files = exports("setup:audit-table", urlencode({"find": find}))
    return render(request, "setup/audit.html", {"entries": page, "find": find, "files": files})


def _audit_found(request: HttpRequest) -> tuple[str, QuerySet[AuditEntry]]:
    """The words looked for, and the entries in which all of them stand, the newest first."""
    find = request.GET.get("find", "").strip()[:100]
    entries = AuditEntry.objects.order_by("-pk")
    for word in find.split():
        entries = (
            entries.filter(detail__icontains=word)
            | entries.filter(action__icontains=word)
            | entries.filter(who__icontains=word)
        )
    return find, entries


@require_safe
@all_needs(May.READ_RECORDS)
def audit_table(request: HttpRequest, kind: str) -> HttpResponse:
    """All found entries as a file, with the whole values before and after."""
    entries = _audit_found(request)[1]
    if (found := entries.count()) > MOST_IN_A_FILE:
        raise Refused(
            f"{found} entries are too many for a file; accepted: up to {MOST_IN_A_FILE}. Narrow them by words.", 422
        )
    rows = [(e.at.isoformat(), e.who or "the application", e.action, e.detail, e.before, e.after) for e in entries]
    return sheet_response(Sheet("audit", ("when", "who", "what", "which", "before", "after"), frozenset(), rows), kind)


@require_safe
@all_needs(May.READ_RECORDS)
def outbox(request: HttpRequest) -> HttpResponse:
    """Messages of the simulated mail."""
    page = Paginator(OutboxMessage.objects.order_by("-pk"), ON_A_PAGE).get_page(request.GET.get("page"))
    return render(request, "setup/outbox.html", {"entries": page})


@require_safe
@all_needs(May.READ_RECORDS)
def document(request: HttpRequest, number: int) -> HttpResponse:
    """The document that goes with a message, for print."""
    message = OutboxMessage.objects.filter(pk=number).exclude(document="").first()
    if message is None:
        raise Http404
    return HttpResponse(message.document)


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def backups(request: HttpRequest) -> HttpResponse:
    """All backups; make one, or put one back."""
    if request.method == "POST":
        try:
            if request.POST.get("what") == "make":
                messages.success(request, f"{make_backup(now()).name} was made and checked.")
            elif request.POST.get("what") == "restore":
                before = restore_backup(request.viewer, request.POST.get("name", ""), now())  # type: ignore[attr-defined]
                # Everybody signs in anew: whoever had a sign-in then need not have one now.
                logout(request)
                messages.success(request, f"The backup is in place; what was there before is kept as {before.name}.")
                return redirect("sign-in")
            else:
                raise BackupRefused("Choose what to do; accepted: make, restore.")
        except BackupRefused as refused:
            raise Refused(str(refused), 409) from refused
        return redirect("setup:backups")
    return render(request, "setup/backups.html", {"backups": kept()})
