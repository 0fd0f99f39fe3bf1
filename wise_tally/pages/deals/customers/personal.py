"""Personal data of a contact or a lead: handed out as a file, or erased."""

import json

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_http_methods

from wise_tally.domain.deals.models import Contact, Lead
from wise_tally.domain.deals.personal_actions import erase, hand_out
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


def _answer(request: PageRequest, record: Contact | Lead, back: str) -> HttpResponse:
    viewer = request.viewer
    if request.method == "POST":
        if request.POST.get("sure") != "yes":
            raise Refused("Erasing cannot be undone. Tick that you are sure, and send it again.", 422)
        erase(viewer, record, now())
        messages.success(request, "Name, mail and phone are erased; figures are as they were.")
        return redirect(back, key=record.account.key if isinstance(record, Contact) else record.key)
    content = json.dumps(hand_out(viewer, record, now()), ensure_ascii=False, indent=1)
    headers = {"Content-Disposition": f'attachment; filename="{record.key}.json"'}
    return HttpResponse(content, content_type="application/json", headers=headers)


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def of_contact(request: PageRequest, key: str) -> HttpResponse:
    """What is kept about somebody at a customer's."""
    return _answer(request, visible(request).contact(key), "customers:account")


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_ORGANISATION)
def of_lead(request: PageRequest, key: str) -> HttpResponse:
    """What is kept about a lead."""
    return _answer(request, visible(request).lead(key), "customers:lead")
