"""One way to save what was typed into a deal's row, wherever the row is: as a page, or as the answer to a cell edited in place."""

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.core.exceptions import PermissionDenied
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from wise_tally.book.store import books
from wise_tally.core.number_reader import whole_number
from wise_tally.core.reference_data import ReferenceData
from wise_tally.domain.deals.actions import ClosingRefused, OldState, StageRefused, last_revision
from wise_tally.domain.deals.last_step import undo_step
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.revert import revert, revision_before, take_back_added
from wise_tally.domain.formats import day, money
from wise_tally.domain.org.clock import local_day, now, today
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import ChangedMeanwhile, InUse
from wise_tally.domain.process.models import Category, LostReason, StageKind
from wise_tally.domain.refusals import WriteRefused
from wise_tally.web.deal_rows import stage_choices
from wise_tally.web.filter_line import period_words
from wise_tally.web.forms.deal import DealForm
from wise_tally.web.request.permissions import safe_next
from wise_tally.web.request.viewing import PageRequest

IN_PLACE = "X-In-Place"
LAST = "last_change"


@dataclass(frozen=True)
class Conflict:
    """Who changed the deal meanwhile and when, and of each value that differs what it is now and what was typed."""

    who: str
    revision: DealRevision
    values: tuple[tuple[str, str, str], ...]


@dataclass(frozen=True)
class DealRequest:
    """A request about a deal: where its form posts to, and the page to go back to."""

    request: PageRequest
    deal: Deal
    action: str
    back: str

    @property
    def in_place(self) -> bool:
        """Whether the page's script asks, who wants words for a cell instead of a page."""
        return IN_PLACE in self.request.headers

    def page(self, name: str, shown: dict[str, Any], status: int = 200) -> HttpResponse:
        """One of the two forms of an answer, marked so that the script can tell it from a page."""
        template = f"deals/{name}_here.html" if self.in_place else f"deals/{name}.html"
        answer = render(self.request, template, {"deal": self.deal, "next": self.back, **shown}, status=status)
        answer[IN_PLACE] = "yes"
        return answer


def save(
    request: PageRequest,
    deal: Deal,
    form: DealForm,
    write: Callable[[], DealRevision],
    form_of: tuple[str, str] | None = None,
) -> HttpResponse:
    """Write what the form holds, or answer with what is wrong and all that was typed.

    `form_of`: where the form posts to and the page that it stands on, where these are not those of the deal.
    """
    action, home = form_of or (reverse("deals:change", args=[deal.key]), reverse("deals:deal", args=[deal.key]))
    deal_request, before = DealRequest(request, deal, action, safe_next(request, home)), last_revision(deal)
    if form.state is None:
        return _refused(deal_request, form, 422)
    try:
        after = write()
    except WriteRefused as refused:
        form.faults["stage"] = str(refused)
        form.ask_for(refused.lacking if isinstance(refused, StageRefused) else ())
        return _refused(deal_request, form, 422)
    except ClosingRefused as refused:
        form.faults |= refused.faults
        if form.closes is not None:
            form.closes.faults |= refused.faults
        return _refused(deal_request, form, 422)
    except OldState as old:
        return _refused(deal_request, form, 409, _conflict(form, old.now))
    except ChangedMeanwhile as meanwhile:
        form.faults["next_step"] = f"{meanwhile} The next step is now “{meanwhile.now['next_step']}”."
        return _refused(deal_request, form, 409)
    except PermissionDenied as denied:
        form.faults["deal"] = str(denied)
        return _refused(deal_request, form, 403)
    if after.pk != before.pk:
        request.session[LAST] = {"key": deal.key, "revision": after.pk}
    return _done(deal_request, after, "Saved", before if after.pk != before.pk else None)


def put_back(request: PageRequest, deal: Deal) -> HttpResponse:
    """Put the last change of a deal back; refused in words where it was changed since."""
    action = reverse("deals:revert", args=[deal.key])
    deal_request = DealRequest(request, deal, action, safe_next(request, reverse("deals:deal", args=[deal.key])))
    expected = whole_number(request.POST.get("revision", "")) or 0
    given = (request.viewer, books.current().reference, deal, expected, now())
    try:
        if revision_before(last_revision(deal)) is None:
            take_back_added(*given)
            return _removed(deal_request)
        after = revert(*given)
    except (OldState, StageRefused, PermissionDenied) as refused:
        status = 403 if isinstance(refused, PermissionDenied) else 409
        return deal_request.page("not_put_back", {"words": str(refused)}, status)
    request.session.pop(LAST, None)
    return _done(deal_request, after, "Undone", None)


def _removed(deal_request: DealRequest) -> HttpResponse:
    """Back to the page, but not to that of a deal which is there no more; a customer that was made with it goes, too."""
    request, account, gone = deal_request.request, deal_request.deal.account, [deal_request.deal.name]
    last = request.session.pop(LAST, {})
    if account and last.get("key") == deal_request.deal.key and last.get("made"):
        # Something belongs to it meanwhile: it stays.
        with suppress(ChangedMeanwhile, InUse, PermissionDenied):
            undo_step(request.viewer, books.current().reference, account, last["made"], now())
            gone.append(account.name)
    messages.success(request, f"{' and the new customer '.join(gone)} {'were' if gone[1:] else 'was'} removed.")
    own = reverse("deals:deal", args=[deal_request.deal.key])
    return redirect(reverse("deals:page") if deal_request.back.startswith(own) else deal_request.back)


def _done(deal_request: DealRequest, after: DealRevision, words: str, before: DealRevision | None) -> HttpResponse:
    """Back to the page, or the few words beside the cell with the revision that the next edit stands on."""
    if not deal_request.in_place:
        return redirect(deal_request.back)
    is_now = where_now(before, after, books.current().reference) if before else ""
    return deal_request.page("saved", {"after": after, "words": words, "undo": before is not None, "is_now": is_now})


def where_now(before: DealRevision, after: DealRevision, reference: ReferenceData) -> str:
    """Where a deal is after a change, as far as that may take it off a page: “now in Q4 FY2027, now Offer”."""
    places = []
    if after.stage.kind != StageKind.OPEN:
        return f"{after.stage.name} on {day(local_day(after.effective_at))}"
    if after.stage != before.stage:
        places.append(f"now in {after.stage.name}")
    if after.expected_close != before.expected_close:
        close = after.expected_close
        places.append(
            f"now in {period_words(reference.fiscal.containing(close, 'quarter'))}" if close else "no close date"
        )
    if after.category != before.category:
        places.append(f"now {after.category.name if after.category else 'as its stage'}")
    if after.amount_minor != before.amount_minor:
        places.append(f"amount now {money(after.amount_minor)}")
    return ", ".join(places)


def _conflict(form: DealForm, present: DealRevision) -> Conflict:
    assert form.state is not None
    who = Person.objects.filter(key=present.changed_by).values_list("name", flat=True).first()
    state = form.state
    pairs = (
        ("stage", present.stage.name, state.stage.name),
        ("amount", money(present.amount_minor), money(state.amount_minor)),
        ("expected close", day(present.expected_close), day(state.expected_close)),
        ("category", _category(present.category), _category(state.category)),
    )
    return Conflict(who or "Somebody", present, tuple(pair for pair in pairs if pair[1] != pair[2]))


def _category(category: Category | None) -> str:
    return category.name if category else "as the stage"


def _refused(deal_request: DealRequest, form: DealForm, status: int, conflict: Conflict | None = None) -> HttpResponse:
    """The form again with what was typed."""
    posted, present = deal_request.request.POST, last_revision(deal_request.deal)
    shown = {
        "form": form,
        "closing": form.closes,
        "faults": list(form.faults.values()),
        "conflict": conflict,
        "step": {name: posted.get(name, "") for name in ("next_step", "next_step_on")}
        if "next_step" in posted
        else None,
        "stages": stage_choices().get(deal_request.deal.process.key, []),
        "categories": list(Category.objects.order_by("rank")),
        "lost_reasons": LostReason.objects.offered().order_by("name"),
        "first_day": local_day(present.effective_at),
        "today": today(),
        "revision": present.pk,
        "action": deal_request.action,
    }
    return deal_request.page("refused", shown, status)
