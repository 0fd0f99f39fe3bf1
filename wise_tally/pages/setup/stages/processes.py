"""The page of sales processes: added, renamed, retired and brought back."""

from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods

from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.process.models import Process
from wise_tally.domain.process.stage_actions import (
    NameTaken,
    add_process,
    copy_process,
    rename_process,
    set_process_retired,
)
from wise_tally.pages.setup.stages.forms import STARTER, NewProcessForm, ProcessForm
from wise_tally.pages.setup.stages.views import process_of
from wise_tally.web.request.permissions import changing_needs
from wise_tally.web.request.viewing import PageRequest


@require_http_methods(["GET", "HEAD", "POST"])
@changing_needs(May.SET_RULES)
def processes(request: PageRequest) -> HttpResponse:
    """All processes; what is refused stands in the form it was typed into."""
    if request.method != "POST":
        return _page(request, {}, None)
    what, key = request.POST.get("what", ""), request.POST.get("process", "")
    if what in ("retire", "restore"):
        set_process_retired(request.viewer, process_of(key), what == "retire", now())
        return redirect("setup:processes")
    return _rename(request, process_of(key)) if key else _add(request)


def _rename(request: PageRequest, process: Process) -> HttpResponse:
    form = ProcessForm(request.POST)
    if form.is_valid():
        try:
            rename_process(request.viewer, process, form.cleaned_data["name"], now())
            return redirect("setup:processes")
        except NameTaken as taken:
            form.add_error("name", str(taken))
    return _page(request, {process.key: form}, None)


def _add(request: PageRequest) -> HttpResponse:
    form = NewProcessForm(request.POST, processes=_all())
    if form.is_valid():
        name, start = form.cleaned_data["name"], form.cleaned_data["start"]
        try:
            if form.source:
                made = copy_process(request.viewer, form.source, name, now())
            else:
                made = add_process(request.viewer, name, start == STARTER, now())
            return redirect("setup:stages", process=made.key)
        except NameTaken as taken:
            form.add_error("name", str(taken))
    return _page(request, {}, form)


def _all() -> list[Process]:
    return list(Process.objects.order_by("retired", "name"))


def _page(request: PageRequest, renaming: dict[str, ProcessForm], new: NewProcessForm | None) -> HttpResponse:
    """The list, with what was refused in the row or the form that it belongs to."""
    listed = _all()
    answer = {
        "rows": [(one, renaming.get(one.key) or ProcessForm({"name": one.name})) for one in listed],
        "form": new or NewProcessForm(processes=listed),
        "may_edit": request.viewer.may(May.SET_RULES),
    }
    return render(request, "setup/processes.html", answer, status=422 if renaming or new else 200)
