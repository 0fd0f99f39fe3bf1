"""Pages of the quota plan."""

from datetime import date
from typing import Any

from babel.numbers import get_currency_precision
from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from wise_tally.org.access import May, teams_seen
from wise_tally.org.clock import now, today
from wise_tally.org.models import Workspace
from wise_tally.setup.quotas.grid import QuotaGrid, quota_grid, read_cells
from wise_tally.shelf.book import shelf
from wise_tally.targets.actions import QuotaChanged, QuotaOverlaps, set_quotas
from wise_tally.ui.refusals import Refused
from wise_tally.ui.templatetags.figures import money


@require_http_methods(["GET", "HEAD", "POST"])
def quotas(request: HttpRequest) -> HttpResponse:
    """The quota grid of a fiscal year; saving writes new versions of the changed cells."""
    book, viewer = shelf.book(), request.viewer  # type: ignore[attr-defined]
    if viewer.sees_own_only:
        raise PermissionDenied("Quotas of others are not open to you; your own stand on Attainment.")
    seen = teams_seen(viewer, book.ground, today())
    year = _year(request, book.ground.fiscal.fiscal_year_of(today()))
    decimals = get_currency_precision(Workspace.current().currency)
    if request.method != "POST":
        return _quota_page(request, quota_grid(book, year, today(), seen))
    viewer.require(May.SET_RULES)
    cells, typed, faults = read_cells(request.POST, book, year, today(), seen, decimals)
    if not faults:
        try:
            count = set_quotas(viewer, cells, now())
            messages.success(request, f"{count} cells set." if count else "Nothing was changed.")
            return redirect(f"{reverse('setup:quotas')}?year={year}")
        except QuotaChanged as changed:
            message = f"Set to {money(changed.now)} by somebody else meanwhile; save again to put your value over it."
            faults[_cell_name(changed.cell.subject, changed.cell.subject_key, changed.cell.starts_on)] = message
        except QuotaOverlaps as overlap:
            faults[_cell_name(overlap.cell.subject, overlap.cell.subject_key, overlap.cell.starts_on)] = str(overlap)
    return _quota_page(request, quota_grid(book, year, today(), seen, typed, faults), 422)


def _cell_name(subject: str, key: str, starts_on: date) -> str:
    return f"{subject}:{key}:{starts_on}"


def _year(request: HttpRequest, default: int) -> int:
    text = request.GET.get("year", str(default))
    if not (text.isascii() and text.isdigit() and 1902 <= int(text[:5]) <= 2198):
        raise Refused(f"“{text[:20]}” is not a fiscal year; accepted: a year such as {default}.")
    return int(text)


def _quota_page(request: HttpRequest, grid: QuotaGrid, status: int = 200) -> HttpResponse:
    answer: dict[str, Any] = {"grid": grid, "may_edit": request.viewer.may(May.SET_RULES)}  # type: ignore[attr-defined]
    return render(request, "setup/quotas.html", answer, status=status)
