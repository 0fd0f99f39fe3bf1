"""The brief by mail: on which days, from which hour, of whom; unsubscribing in one click."""

from typing import Any

from django import forms
from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods

from wise_tally.core.day_reader import WEEKDAYS
from wise_tally.domain.briefs.actions import set_digest, stop_digest
from wise_tally.domain.briefs.models import Digest
from wise_tally.domain.org.access import Viewer, viewer_of
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person
from wise_tally.domain.refusals import WriteRefused
from wise_tally.web.filter_line import scope_of
from wise_tally.web.forms.choices import LongSelect, typed_key
from wise_tally.web.forms.fields import LedgerForm
from wise_tally.web.request.refusals import BadLink, Refused
from wise_tally.web.request.viewing import PageRequest

HOURS = [(hour, f"{hour:02}:00") for hour in range(24)]
USUAL_HOUR = 7


class MailForm(LedgerForm):
    """On which days one's own brief comes by mail, from which hour, and of whom."""

    day = forms.TypedMultipleChoiceField(
        label="Days",
        required=False,
        coerce=int,
        choices=list(enumerate(WEEKDAYS)),
        widget=forms.CheckboxSelectMultiple,
        error_messages={"invalid_choice": "Choose days of the week."},
    )
    hour = forms.TypedChoiceField(
        label="Not before", coerce=int, choices=HOURS, error_messages={"invalid_choice": "Choose an hour from 0 to 23."}
    )
    who = forms.CharField(label="About", required=False)

    def __init__(self, viewer: Viewer, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.viewer = viewer
        offered = [(choice.value, choice.label) for choice in scope_of(viewer, {}).choices_who]
        if offered and offered[0][0]:
            offered.insert(0, ("", "all that I may see"))
        listed = LongSelect("owners", attrs={"class": "boxed"}, choices=offered)
        self.fields["who"].widget = listed if offered else forms.HiddenInput()
        self.offered = offered

    def clean_who(self) -> str:
        """Nobody whom the receiver may not see."""
        who = typed_key(self.offered, self.cleaned_data["who"])
        try:
            scope_of(self.viewer, {"who": who} if who else {})
        except (BadLink, Refused) as refused:
            raise forms.ValidationError(str(refused)) from None
        return who


@require_http_methods(["GET", "HEAD", "POST"])
def page(request: PageRequest) -> HttpResponse:
    """Days and hour of one’s own brief by mail; none for no mail."""
    viewer = request.viewer
    digest = Digest.objects.filter(person__key=viewer.key).first()
    values: dict[str, Any] = {"hour": USUAL_HOUR}
    if digest:
        values = {"day": digest.days.split(","), "hour": digest.hour, "who": digest.who}
    form = MailForm(viewer, request.POST if request.method == "POST" else None, initial=values)
    if form.is_valid():
        try:
            set_digest(viewer, form.cleaned_data["day"], form.cleaned_data["hour"], form.cleaned_data["who"], now())
            messages.success(request, "Saved.")
            return redirect(reverse("brief:mail"))
        except WriteRefused as refused:
            form.add_error(None, str(refused))
    email = Person.objects.filter(key=viewer.key).values_list("email", flat=True).first()
    answer = {"form": form, "digest": digest, "email": email}
    return render(request, "brief/mail_settings.html", answer, status=422 if form.errors else 200)


@csrf_exempt
@require_http_methods(["GET", "HEAD", "POST"])
def unsubscribe(request: PageRequest, token: str) -> HttpResponse:
    """No more brief by mail, from the link of a mail, without signing in: a mail program’s one click, or the button of the page."""
    digest = Digest.objects.filter(token=token).select_related("person").first()
    if digest is None and request.method == "POST":
        raise Http404
    if request.method == "POST" and digest is not None:
        stop_digest(digest.person, viewer_of(digest.person), now())
        digest = None
    return render(request, "brief/unsubscribed.html", {"digest": digest})
