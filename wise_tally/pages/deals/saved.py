"""Saved views of the list: one's own or shared, one of them the list's start."""

from django.http import HttpResponse, QueryDict
from django.shortcuts import get_object_or_404, redirect
from django.urls import reverse
from django.views.decorators.http import require_POST

from wise_tally.domain.deals.models import SavedView
from wise_tally.domain.deals.view_actions import change_view, save_view, views_of
from wise_tally.domain.org.clock import now
from wise_tally.web.request.viewing import PageRequest

# What of an address makes a view; the scope stays the reader's own.
PARTS = ("status", "find", "stage", "only", "join", "sort", "cols", "f", "view", "by")


def view_part(query: str) -> str:
    """The part of an address that a view keeps."""
    given, own = QueryDict(query), QueryDict(mutable=True)
    for name in PARTS:
        own.setlist(name, [value for value in given.getlist(name) if value])
    return own.urlencode()


def start_view(request: PageRequest) -> str:
    """The address of the viewer's start view where the list is opened plainly; empty where there is none."""
    if any(name in request.GET for name in (*PARTS, "page", "plain")):
        return ""
    viewer = request.viewer
    view = SavedView.objects.filter(owner__key=viewer.key, starts=True).first()
    if view is None or not view.query:
        return ""
    scope = request.GET.urlencode()
    return f"{reverse('deals:page')}?{scope}{'&' if scope else ''}{view.query}"


@require_POST
def views(request: PageRequest) -> HttpResponse:
    """Keep the list as it is shown under a name, or make a view the start, share it, take it away."""
    viewer, what = request.viewer, request.POST.get("what", "save")
    back = f"{reverse('deals:page')}?plain=1"
    if what == "save":
        query = view_part(request.POST.get("query", ""))
        view = save_view(viewer, request.POST.get("name", ""), query, request.POST.get("shared") == "yes", now())
        return redirect(f"{reverse('deals:page')}?{view.query or 'plain=1'}")
    saved_view = get_object_or_404(views_of(viewer), key=request.POST.get("view", ""))
    change_view(viewer, saved_view, what, now())
    return redirect(back)
