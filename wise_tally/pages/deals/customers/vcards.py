"""Contacts as vCards (RFC 6350): those of an account out, and those of a file in."""

from dataclasses import dataclass

import vobject
from django.contrib import messages
from django.core.files.uploadedfile import UploadedFile
from django.db import transaction
from django.http import HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.domain.deals.account_actions import save_contact
from wise_tally.domain.deals.activity_actions import require_about
from wise_tally.domain.deals.models import Account, Contact
from wise_tally.domain.formats import plural
from wise_tally.domain.org.access import Viewer
from wise_tally.domain.org.clock import now
from wise_tally.pages.deals.customers.accounts import visible_account
from wise_tally.pages.deals.customers.forms import ContactForm
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest

MOST_BYTES, MOST_CARDS = 2_000_000, 500


@dataclass(frozen=True)
class Card:
    """What a card holds about a person."""

    name: str
    email: str
    phone: str
    job_title: str


@require_safe
def out(request: PageRequest, key: str) -> HttpResponse:
    """All contacts of an account as one file."""
    account = visible_account(request, key)
    text = "".join(_written(contact, account) for contact in account.contacts.order_by("name", "key"))
    answer = HttpResponse(text, content_type="text/vcard; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="contacts-{account.key}.vcf"'
    return answer


def _written(contact: Contact, account: Account) -> str:
    card = vobject.vCard()
    card.add("version").value = "4.0"
    card.add("uid").value = contact.key
    card.add("fn").value = contact.name
    given, _, family = contact.name.rpartition(" ")
    card.add("n").value = vobject.vcard.Name(family=family, given=given)
    card.add("org").value = [account.name]
    for name, value in (("email", contact.email), ("tel", contact.phone), ("title", contact.job_title)):
        if value:
            card.add(name).value = value
    return str(card.serialize())


@require_POST
def read_in(request: PageRequest, key: str) -> HttpResponse:
    """Contacts of a file for an account; those who are there already by mail address or name are left as they are."""
    account = visible_account(request, key)
    require_about(request.viewer, books.current().reference, account, now())
    cards = _cards(request.FILES.get("file"))
    there = {text.casefold() for pair in account.contacts.values_list("name", "email") for text in pair if text}
    added = 0
    with transaction.atomic():
        for card in cards:
            if (card.email or card.name).casefold() not in there and card.name.casefold() not in there:
                _add(request.viewer, account, card)
                there |= {card.name.casefold(), card.email.casefold()}
                added += 1
    messages.success(request, f"{plural(added, 'contact')} added, {plural(len(cards) - added, 'other')} there already.")
    return redirect("customers:account", key=account.key)


def _add(viewer: Viewer, account: Account, card: Card) -> None:
    form = ContactForm({"name": card.name, "email": card.email, "phone": card.phone, "job_title": card.job_title})
    if not form.is_valid():
        raise Refused(f"“{card.name[:60]}”: {form.faults} Nothing was added.", 422)
    save_contact(viewer, books.current().reference, account, None, form.cleaned_data, now())


def _cards(file: UploadedFile | None) -> list[Card]:
    """The cards of an uploaded file; raises Refused."""
    if file is None or (file.size or 0) > MOST_BYTES:
        raise Refused("Choose a vCard file (.vcf) of up to 2 MB.", 422)
    try:
        read = [_read(one) for one in vobject.readComponents(file.read().decode("utf-8-sig")) if one.name == "VCARD"]
    except (UnicodeDecodeError, vobject.base.ParseError, AttributeError, IndexError):
        raise Refused("The vCard file cannot be read. Save the contacts as vCard (UTF-8) again.", 422) from None
    cards = [card for card in read if card.name]
    if not cards or len(cards) > MOST_CARDS:
        raise Refused(
            f"This file holds {plural(len(cards), 'contact')}; from 1 to {MOST_CARDS} can be added at once.", 422
        )
    return cards


def _read(one: vobject.base.Component) -> Card:
    """The first of each; a name in parts is put together where the whole one is missing."""

    def first(name: str) -> str:
        values = one.contents.get(name)
        return str(values[0].value).strip().removeprefix("tel:").removeprefix("mailto:") if values else ""

    return Card(" ".join((first("fn") or first("n")).split())[:200], first("email"), first("tel"), first("title"))
