"""A new deal, a deal's files, its quote, and the checklist of the stage it stands in."""

from typing import Any

from django import forms
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods, require_POST, require_safe

from wise_tally.book.store import books
from wise_tally.domain.deals.actions import last_revision, require_deal
from wise_tally.domain.deals.activity_actions import add_file, take_file_away
from wise_tally.domain.deals.creation import NewDeal, add_deal_of
from wise_tally.domain.deals.entry import document_of, tick_entry
from wise_tally.domain.deals.last_step import changed_rows, rows_of
from wise_tally.domain.deals.models import Deal, KeptFile
from wise_tally.domain.org.access import May, may_change_deal
from wise_tally.domain.org.clock import now, today
from wise_tally.domain.org.models import Person
from wise_tally.domain.process.models import DealType, Document, Source, Stage, StageKind
from wise_tally.domain.refusals import WriteRefused
from wise_tally.pages.deals.deal_page import open_deal
from wise_tally.pages.deals.details import AccountField
from wise_tally.web.deal_saving import LAST
from wise_tally.web.forms.choices import KeyChoice
from wise_tally.web.forms.fields import DateField, LedgerForm, MoneyField, NameField
from wise_tally.web.forms.own_fields import NewCloseField, names_of
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible

MOST_UPLOAD = 10_000_000


class NewDealForm(LedgerForm):
    """What a new deal begins with."""

    name = NameField(label="Name")
    account = AccountField(
        label="Customer", help_text="The name of an account, or of a new one if the box below is ticked."
    )
    is_new = forms.BooleanField(label="This is a new customer", required=False)
    stage = forms.ChoiceField(label="Stage")
    amount = MoneyField(label="Amount")
    expected_close = NewCloseField(label="Expected close")
    owner = KeyChoice("Owner", "people")
    deal_type = forms.ChoiceField(label="Deal type", required=False)
    source = forms.ChoiceField(label="Source", required=False)
    next_step = forms.CharField(label="Next step", required=False, max_length=10_000)
    next_step_on = DateField(label="Next step due on")

    def __init__(self, request: PageRequest, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        account = self.fields["account"]
        assert isinstance(account, AccountField)
        account.visible = visible(request)
        stages = Stage.objects.filter(kind=StageKind.OPEN, retired=False, process__retired=False).select_related(
            "process"
        )
        chosen = [(s.key, f"{s.process.name}: {s.name}") for s in stages.order_by("process__key", "position", "key")]
        choices = {"stage": chosen, "owner": owners_of(request)}
        choices |= {"deal_type": names_of(DealType, ""), "source": names_of(Source, "")}
        for name, options_of in choices.items():
            self.offer(name, options_of)

    def clean(self) -> dict[str, Any]:
        """A customer that is not there yet is none to be refused where it is to be made."""
        clean = super().clean() or {}
        typed = self.data.get("account", "").strip()
        if clean.get("is_new") and typed:
            account = self.fields["account"]
            assert isinstance(account, AccountField)
            twins = account.visible.likely_accounts(typed)
            elsewhere = account.visible.twin_elsewhere(typed)
            self.errors.pop("account", None)
            if any(twin.name.casefold() == typed.casefold() for twin in twins) or elsewhere:
                self.add_error(
                    "account", elsewhere or f"“{typed[:60]}” is there already. Untick “new customer” to use it."
                )
            clean["new_account"] = typed[:200]
        return clean


def owners_of(request: PageRequest) -> list[tuple[str, str]]:
    """People whose deals the viewer may change; the viewer first."""
    viewer, reference, day = request.viewer, books.current().reference, today()
    people = [p for i, p in enumerate(reference.people) if may_change_deal(viewer, reference, day, i)]
    left = set(Person.objects.filter(active_to__lt=day).values_list("key", flat=True))
    people = sorted((p for p in people if p.key not in left), key=lambda p: (p.key != viewer.key, p.name))
    return [(person.key, person.name) for person in people]


@require_http_methods(["GET", "HEAD", "POST"])
def new_deal(request: PageRequest) -> HttpResponse:
    """The form of a new deal; what cannot be saved is explained beside its field."""
    request.viewer.require(May.CHANGE_OWN_DEALS)
    account = request.GET.get("account", "")[:200]
    form = NewDealForm(request, request.POST if request.method == "POST" else None, initial={"account": account})
    if request.method == "POST" and form.is_valid():
        try:
            return redirect("deals:deal", key=_added(request, dict(form.cleaned_data)).key)
        except WriteRefused as refused:
            form.add_error(None, str(refused))
    return render(request, "deals/new.html", {"form": form}, status=422 if form.is_bound else 200)


def _added(request: PageRequest, clean: dict[str, Any]) -> Deal:
    """The new deal; the customer that was made with it goes with it, if it is undone."""
    stage, owner = Stage.objects.get(key=clean.pop("stage")), Person.objects.get(key=clean.pop("owner"))
    clean.pop("is_new")
    name = clean.pop("new_account", "")
    new = NewDeal(stage=stage, owner=owner, amount_minor=clean.pop("amount") or 0, **clean)
    deal = add_deal_of(request.viewer, books.current().reference, new, name, now())
    made = changed_rows({}, rows_of(deal.account)) if name else []
    request.session[LAST] = {"key": deal.key, "revision": last_revision(deal).pk, "made": made}
    return deal


@require_POST
def add_files(request: PageRequest, key: str) -> HttpResponse:
    """Keep an uploaded file with the deal, or take one away."""
    deal = open_deal(request, key)
    viewer, reference = request.viewer, books.current().reference
    back = reverse("deals:deal", args=[deal.key])
    if away := request.POST.get("away"):
        file = get_object_or_404(KeptFile, deal=deal, key=away)
        take_file_away(viewer, reference, file, now())
        return redirect(back)
    upload = request.FILES.get("file")
    try:
        if upload is None or not upload.name:
            raise WriteRefused("Choose a file (up to 10 MB).")
        if (upload.size or 0) > MOST_UPLOAD:
            raise WriteRefused(f"The file has {(upload.size or 0) / 1e6:.0f} MB. The limit is 10 MB.")
        add_file(viewer, reference, deal, upload.name, upload.read(), now())
    except WriteRefused as refused:
        return render(request, "deals/file_refused.html", {"deal": deal, "words": str(refused)}, status=422)
    return redirect(back)


@require_safe
def file(request: PageRequest, key: str, file_key: str) -> HttpResponse:
    """A file of a deal, always as a download."""
    deal = open_deal(request, key)
    kept_file = get_object_or_404(KeptFile, deal=deal, key=file_key)
    name = kept_file.name.replace('"', "").replace("\\", "").encode("ascii", "replace").decode()
    headers = {"Content-Disposition": f'attachment; filename="{name}"', "X-Content-Type-Options": "nosniff"}
    return HttpResponse(bytes(kept_file.content), content_type="application/octet-stream", headers=headers)


@require_safe
def quote(request: PageRequest, key: str) -> HttpResponse:
    """The offer of a deal as it would be printed."""
    deal = open_deal(request, key)
    return HttpResponse(document_of(last_revision(deal), Document.OFFER, now())[1])


@require_POST
def tick(request: PageRequest, key: str) -> HttpResponse:
    """Tick or untick an entry of the stage guide's checklist; ticks are answers kept with the deal."""
    deal = open_deal(request, key)
    viewer = request.viewer
    require_deal(viewer, books.current().reference, deal, today())
    guide = getattr(last_revision(deal).stage, "guide", None)
    entries = guide.checklist.splitlines() if guide else []
    question = request.POST.get("entry", "")
    if question not in entries:
        raise Http404
    tick_entry(viewer, deal, question, request.POST.get("done") == "yes", now())
    return redirect(safe_next(request, reverse("deals:deal", args=[deal.key])))
