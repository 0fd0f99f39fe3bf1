"""People at a customer's: added, changed, written to."""

from urllib.parse import quote

from django.db.models import Q
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from wise_tally.book.store import books
from wise_tally.domain.deals.account_actions import save_contact
from wise_tally.domain.deals.activity_actions import About, add_activity, require_about
from wise_tally.domain.deals.models import Contact
from wise_tally.domain.org.clock import now
from wise_tally.pages.deals.customers.accounts import visible_account
from wise_tally.pages.deals.customers.forms import ContactForm
from wise_tally.pages.deals.customers.last_step import undoable
from wise_tally.web.forms.fields import LedgerForm, forms
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible


@require_http_methods(["GET", "HEAD", "POST"])
def new(request: PageRequest, key: str) -> HttpResponse:
    """Somebody new at a customer's."""
    account = visible_account(request, key)
    viewer, reference = request.viewer, books.current().reference
    require_about(viewer, reference, account, now())
    form = ContactForm(request.POST if request.method == "POST" else None)
    if request.method == "POST" and form.is_valid():
        with undoable(request, account, f"{form.cleaned_data['name']} was added."):
            save_contact(viewer, reference, account, None, form.cleaned_data, now())
        return redirect("customers:account", key=account.key)
    answer = {"form": form, "account": account}
    return render(request, "customers/contact.html", answer, status=422 if form.is_bound else 200)


@require_http_methods(["GET", "HEAD", "POST"])
def change(request: PageRequest, key: str) -> HttpResponse:
    """What is known of somebody at a customer's."""
    contact = visible(request).contact(key)
    viewer, reference = request.viewer, books.current().reference
    require_about(viewer, reference, contact.account, now())
    before = {name: getattr(contact, name) for name in ("name", "email", "phone", "job_title")}
    form = ContactForm(request.POST if request.method == "POST" else None, initial=before)
    if request.method == "POST" and form.is_valid():
        with undoable(request, contact.account, f"{form.cleaned_data['name']} was saved."):
            save_contact(viewer, reference, contact.account, contact.key, form.cleaned_data, now())
        return redirect("customers:account", key=contact.account.key)
    answer = {"form": form, "account": contact.account, "contact": contact}
    return render(request, "customers/contact.html", answer, status=422 if form.is_bound else 200)


class MailForm(LedgerForm):
    """A mail that the own mail program will send."""

    subject = forms.CharField(label="Subject", max_length=200, error_messages={"required": "Enter a subject."})
    body = forms.CharField(label="Text", required=False, max_length=1_500, widget=forms.Textarea(attrs={"rows": 8}))


@require_http_methods(["GET", "HEAD", "POST"])
def write(request: PageRequest, key: str) -> HttpResponse:
    """Write to somebody: the mail is logged as done and handed to the mail program of the computer."""
    contact = visible(request).contact(key)
    viewer, reference = request.viewer, books.current().reference
    deal_key, about = _about(request, contact)
    require_about(viewer, reference, about, now())
    form, link = MailForm(request.POST if request.method == "POST" else None), ""
    if request.method == "POST" and form.is_valid():
        clean = form.cleaned_data
        values = {"kind": "mail", "subject": f"To {contact.name}: {clean['subject']}", "at": now(), "status": "done"}
        with undoable(request, about, "Added to the journal."):
            add_activity(viewer, reference, about, values, now())
        link = f"mailto:{quote(contact.email)}?subject={quote(clean['subject'])}&body={quote(clean['body'])}"
    back = safe_next(request, reverse("customers:account", args=[contact.account.key]))
    answer = {"form": form, "contact": contact, "link": link, "deal": deal_key, "back": back}
    return render(request, "customers/write.html", answer, status=422 if form.is_bound and not link else 200)


def _about(request: PageRequest, contact: Contact) -> tuple[str, About]:
    """The identifier of the deal that the mail is about, and the deal; without one, the account."""
    key = request.POST.get("deal") or request.GET.get("deal", "")
    deals = visible(request).deals(Q(key=key, account=contact.account)) if key else []
    return key, deals[0] if deals else contact.account
