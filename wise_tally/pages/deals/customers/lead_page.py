"""One lead: taken in, worked on, qualified into a deal, dropped, taken up again."""

from collections.abc import Iterable
from typing import Any

from django import forms
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.domain.deals.creation import NewDeal
from wise_tally.domain.deals.customer_access import may_change_lead
from wise_tally.domain.deals.last_step import changed_rows, rows_of
from wise_tally.domain.deals.lead_actions import (
    LEADS,
    Qualified,
    drop_lead,
    move_lead,
    qualify_lead,
    save_lead,
    take_up_again,
    work_on_lead,
)
from wise_tally.domain.deals.models import Account, Lead
from wise_tally.domain.deals.own_fields import own_shown
from wise_tally.domain.org.access import May, may_change_deal
from wise_tally.domain.org.clock import end_of_today, now, today
from wise_tally.domain.org.models import Person, Territory
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.domain.process.models import LeadStep, Stage, StageKind
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.deals.customers.forms import LeadForm
from wise_tally.pages.deals.customers.journal import Entry, journal_of
from wise_tally.pages.deals.customers.last_step import offer_undo, undoable
from wise_tally.pages.deals.customers.leads import age_days, visible_lead
from wise_tally.web.forms.choices import KeyChoice, pairs_of
from wise_tally.web.forms.fields import DateField, LedgerForm, MoneyField, NameField
from wise_tally.web.forms.own_fields import NewCloseField, own_initial
from wise_tally.web.lead_rows import lead_steps
from wise_tally.web.request.choices import one_of
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

KINDS = [("organisation", "an organisation"), ("person", "a person")]


@require_http_methods(["GET", "HEAD", "POST"])
def new(request: PageRequest) -> HttpResponse:
    """Take a lead in."""
    viewer = request.viewer
    viewer.require(May.CHANGE_OWN_DEALS)
    own = {"owner": viewer.key} if viewer.sees_own_only else {}
    form = LeadForm(viewer, None, request.POST if request.method == "POST" else None, initial={**own, "status": "new"})
    if request.method == "POST" and form.is_valid():
        lead = save_lead(viewer, books.current().reference, None, form.cleaned(), now())
        offer_undo(request, lead, f"{lead.name} was added.", changed_rows({}, rows_of(lead)))
        return redirect("customers:lead", key=lead.key)
    return render(request, "customers/lead_form.html", {"form": form}, status=422 if form.is_bound else 200)


class QualifyForm(LedgerForm):
    """The deal that a lead becomes, and whose it is."""

    name = NameField(label="Name of the deal")
    account = KeyChoice("Customer", required=False)
    account_name = forms.CharField(label="Name of the new customer", required=False, max_length=200)
    kind = forms.ChoiceField(label="The new customer is", required=False, choices=KINDS)
    stage = forms.ChoiceField(label="Stage")
    amount = MoneyField(label="Amount")
    expected_close = NewCloseField(label="Expected close")
    owner = KeyChoice("Owner", "people")
    territory = KeyChoice("Territory", "territories", required=False)
    next_step = forms.CharField(label="Next step", required=False, max_length=200)
    next_step_on = DateField(label="Next step on")
    field_order = ("name", "account", "account_name", "kind")

    def __init__(
        self, request: PageRequest, customers: Iterable[tuple[Account, str]], *args: Any, **options: Any
    ) -> None:
        super().__init__(*args, **options)
        self.visible = visible(request)
        viewer, reference, day = request.viewer, books.current().reference, today()
        known = [(account.key, f"{account.name} ({why})") for account, why in customers]
        chosen = self.data.get("account") if self.is_bound else ""
        if chosen and chosen not in dict(known):
            known += [(account.key, account.name) for account in self.visible.accounts().filter(key=chosen)]
        mine = [p.key for i, p in enumerate(reference.people) if may_change_deal(viewer, reference, day, i)]
        stages = Stage.objects.filter(kind=StageKind.OPEN, retired=False, process__retired=False).select_related(
            "process"
        )
        choices = {
            "account": [("", "New customer (enter the name below)"), *known],
            "stage": [(s.key, f"{s.process.name}: {s.name}") for s in stages.order_by("process__key", "position")],
            "owner": pairs_of(Person.objects.filter(key__in=mine).order_by("name")),
            "territory": pairs_of(Territory.objects.offered().order_by("name"), "same as customer"),
        }
        for name, offered in choices.items():
            self.offer(name, offered)

    def clean(self) -> dict[str, Any]:
        """A new customer must not be one that is there already, out of the viewer's sight."""
        clean = super().clean() or {}
        if not clean.get("account") and (elsewhere := self.visible.twin_elsewhere(clean.get("account_name", ""))):
            self.add_error("account_name", elsewhere)
        return clean

    def wanted(self, lead: Lead) -> Qualified:
        """What the lead becomes."""
        clean = self.cleaned_data
        account = self.visible.account(clean["account"]) if clean["account"] else None
        deal = NewDeal(
            name=clean["name"],
            stage=Stage.objects.get(key=clean["stage"]),
            amount_minor=clean["amount"] or 0,
            expected_close=clean["expected_close"],
            owner=Person.objects.get(key=clean["owner"]),
            territory=Territory.objects.filter(key=clean["territory"] or "").first(),
            source=lead.source,
            campaign=lead.campaign,
            next_step=clean["next_step"],
            next_step_on=clean["next_step_on"],
        )
        return Qualified(deal, account, clean["account_name"], clean["kind"] or "organisation")


def known_customers(request: PageRequest, lead: Lead) -> list[tuple[Account, str]]:
    """Customers that a lead may be from, the surest first, each with why."""
    return visible(request).known_customers(lead.customer or lead.name, lead.email, lead.phone)


def _lead_page(request: PageRequest, lead: Lead, status: int = 200, **more: Any) -> HttpResponse:
    viewer, reference = request.viewer, books.current().reference
    initial = {"name": lead.customer or lead.name, "account_name": lead.customer or lead.name}
    initial["owner"] = lead.owner.key if lead.owner else viewer.key
    is_open = lead.status not in ("qualified", "dropped")
    known = known_customers(request, lead) if is_open else []
    if known:
        initial["account"] = known[0][0].key
    initial["kind"] = "organisation" if lead.customer else "person"
    answer = {
        "lead": lead,
        "age": age_days(lead, end_of_today()),
        "is_open": is_open,
        "known": known,
        "may_edit": may_change_lead(viewer, reference, lead, today()),
        "steps": [step for step in lead_steps() if not step.retired or step == lead.step],
        "form": LeadForm(viewer, lead.owner, initial=_initial(lead)),
        "qualify": QualifyForm(request, known, initial=initial),
        "expected": LEADS.text(lead),
        "own_values": own_shown("lead", lead.key),
        "this_page": request.path,
        **journal_of(request, lead, end_of_today(), _moves(lead)),
        "moment": now(),
        "today": today(),
        **more,
    }
    return render(request, "customers/lead.html", answer, status=status)


def _moves(lead: Lead) -> list[Entry]:
    """The steps that a lead took, for its journal."""
    names = dict(Person.objects.values_list("key", "name"))
    return [
        Entry(move.at, (f"Step: {move.step.name}",), names.get(move.by, ""))
        for move in lead.moves.select_related("step")
    ]


def _initial(lead: Lead) -> dict[str, Any]:
    """A lead as its form shows it."""
    values: dict[str, Any] = {"name": lead.name, "customer": lead.customer, "email": lead.email, "phone": lead.phone}
    values |= {"step": lead.step.key if lead.step else "", "campaign": lead.campaign, "score": lead.score}
    values |= {"source": lead.source, "owner": lead.owner.key if lead.owner else "", "status": lead.status or "new"}
    return values | own_initial("lead", lead.key)


@require_safe
def lead(request: PageRequest, key: str) -> HttpResponse:
    """One lead."""
    return _lead_page(request, visible_lead(request, key))


@require_POST
def change(request: PageRequest, key: str) -> HttpResponse:
    """Change, qualify, drop or take up a lead again."""
    lead, what = visible_lead(request, key), request.POST.get("what", "")
    steps = {"save": _save, "qualify": _qualify, "work": _work, "step": _step, "drop": _drop, "take up again": _again}
    one_of(what, steps, "is not accepted")
    try:
        return steps[what](request, lead)
    except WriteRefused as refused:
        return _lead_page(request, lead, 422, refused=str(refused))


def _save(request: PageRequest, lead: Lead) -> HttpResponse:
    form = LeadForm(request.viewer, lead.owner, request.POST, initial=_initial(lead))
    if not form.is_valid():
        return _lead_page(request, lead, 422, form=form, refused="Not saved. Correct the marked fields.")
    try:
        viewer, expected = request.viewer, request.POST.get("expected", "")
        with undoable(request, lead, "Lead saved."):
            save_lead(viewer, books.current().reference, lead.key, form.cleaned(), now(), expected)
    except ChangedMeanwhile as meanwhile:
        return _lead_page(request, lead, 409, form=form, meanwhile=meanwhile.now)
    return redirect("customers:lead", key=lead.key)


def _qualify(request: PageRequest, lead: Lead) -> HttpResponse:
    form = QualifyForm(request, known_customers(request, lead), request.POST)
    if not form.is_valid():
        return _lead_page(request, lead, 422, qualify=form, refused="Not saved. Correct the marked fields.")
    deal = qualify_lead(request.viewer, books.current().reference, lead, form.wanted(lead), now())
    return redirect("deals:deal", key=deal.key)


def _work(request: PageRequest, lead: Lead) -> HttpResponse:
    with undoable(request, lead, "Lead is being worked on."):
        work_on_lead(request.viewer, books.current().reference, lead, now())
    return redirect(safe_next(request, reverse("customers:lead", args=[lead.key])))


def _step(request: PageRequest, lead: Lead) -> HttpResponse:
    step = LeadStep.objects.filter(key=request.POST.get("step", "")).first()
    if step is None:
        raise WriteRefused("This step does not exist. Choose one from the list.")
    with undoable(request, lead, f"Moved to {step.name}."):
        move_lead(request.viewer, books.current().reference, lead, step, now())
    return redirect(safe_next(request, reverse("customers:lead", args=[lead.key])))


def _drop(request: PageRequest, lead: Lead) -> HttpResponse:
    with undoable(request, lead, "Lead disqualified."):
        drop_lead(request.viewer, books.current().reference, lead, request.POST.get("because", "").strip(), now())
    return redirect(safe_next(request, reverse("customers:lead", args=[lead.key])))


def _again(request: PageRequest, lead: Lead) -> HttpResponse:
    with undoable(request, lead, "Lead reopened."):
        take_up_again(request.viewer, books.current().reference, lead, now())
    return redirect("customers:lead", key=lead.key)
