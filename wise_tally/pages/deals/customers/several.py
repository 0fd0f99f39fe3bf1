"""Several accounts or leads of a list changed at once, and put back."""

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from wise_tally.book.store import books
from wise_tally.domain.deals.bulk_customers import (
    FIELDS,
    ChangedRecord,
    change_several,
    put_several_back,
)
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person, Territory
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.forms.choices import key_of
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

LAST_CHANGES = "last_several"


def list_context(request: PageRequest, kind: str, line: FilterLine) -> dict[str, Any]:
    """What a list shows besides its rows: who may add, to whom several may be given, how many the last change can undo."""
    return {
        "may_add": request.viewer.may(May.CHANGE_OWN_DEALS) and not line.is_past,
        "people": Person.objects.filter(active_to=None).order_by("name"),
        "undo": len(request.session.get(LAST_CHANGES, {}).get(kind, [])),
        "this_page": request.get_full_path(),
    }


@require_POST
def change(request: PageRequest) -> HttpResponse:
    """Change the ticked ones, or put the last such change back."""
    kind = one_of(request.POST.get("kind", ""), FIELDS, "cannot be changed together", 422)
    reference, viewer = books.current().reference, request.viewer
    if request.POST.get("what") == "undo":
        changes = request.session.get(LAST_CHANGES, {}).get(kind, [])
        count = put_several_back(viewer, reference, kind, [ChangedRecord(*row) for row in changes], now())
        _keep(request, kind, [])
        messages.success(request, f"{plural(count, kind)} put back.")
    else:
        typed = {name: request.POST.get(name, "").strip() for name in FIELDS[kind]}
        wanted = {name: _key(name, text) for name, text in typed.items() if text}
        changed = change_several(viewer, reference, kind, _open_keys(request, kind), wanted, now())
        _keep(request, kind, changed)
        messages.success(request, f"{plural(len(changed), kind)} changed.")
    return redirect(safe_next(request, "/"))


def _key(name: str, typed: str) -> str:
    """What was typed, of a person or territory the identifier."""
    records: dict[str, Any] = {"owner": Person.objects, "territory": Territory.objects}
    return key_of(records[name].values_list("key", "name"), typed) if name in records else typed


def _keep(request: PageRequest, kind: str, changed: list[ChangedRecord]) -> None:
    rows = [(one.key, one.before, one.after) for one in changed]
    request.session[LAST_CHANGES] = {**request.session.get(LAST_CHANGES, {}), kind: rows}


def _open_keys(request: PageRequest, kind: str) -> list[str]:
    """The ticked ones; one that is not open looks like one that is not there."""
    keys = list(dict.fromkeys(request.POST.getlist("record")))[:1_000]
    may_see = visible(request)
    there = (may_see.accounts() if kind == "account" else may_see.leads()).filter(key__in=keys).count()
    if there < len(keys):
        raise Refused("One of these is not there; load the list again and tick those it shows.", 404)
    return keys
