"""The bounds of findings: from where on a figure is worth one."""

from dataclasses import dataclass

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_http_methods

from wise_tally.core.findings.bounds import BOUNDS, USUAL
from wise_tally.domain.briefs.actions import set_bounds
from wise_tally.domain.briefs.selectors import bounds_in_force
from wise_tally.domain.formats import plain_number
from wise_tally.domain.org.access import May
from wise_tally.domain.org.clock import now
from wise_tally.domain.typed_numbers import typed_number
from wise_tally.web.request.permissions import all_needs
from wise_tally.web.request.viewing import PageRequest

PERCENT = 100


@dataclass(frozen=True)
class BoundField:
    """A bound as it is typed: shares in percent."""

    name: str
    words: str
    unit: str
    usual: str
    value: str
    fault: str = ""


@require_http_methods(["GET", "HEAD", "POST"])
@all_needs(May.SET_RULES)
def page(request: PageRequest) -> HttpResponse:
    """All bounds with what is usual; what was typed stays where something is wrong."""
    faults: dict[str, str] = {}
    if request.method == "POST":
        wanted = _read(request, faults)
        if not faults:
            set_bounds(request.viewer, wanted, now())
            messages.success(request, "Saved. The brief follows the new thresholds.")
            return redirect(reverse("brief:bounds"))
    answer = {"rows": _rows(request, faults)}
    return render(request, "brief/bounds.html", answer, status=422 if faults else 200)


def _scale(name: str) -> int:
    return PERCENT if BOUNDS[name].metadata["unit"] == "%" else 1


def _read(request: PageRequest, faults: dict[str, str]) -> dict[str, float]:
    bounds = {}
    for name, one in BOUNDS.items():
        typed = request.POST.get(name, "").strip()
        read = typed_number(typed) if typed else USUAL[name] * _scale(name)
        if isinstance(read, str):
            faults[name] = read
            continue
        value, about = float(read) / _scale(name), one.metadata
        least, most = (plain_number(about[side] * _scale(name)) for side in ("least", "most"))
        if not about["least"] <= value <= about["most"]:
            faults[name] = f"Enter a number from {least} to {most}."
        bounds[name] = round(value, 6)
    return bounds


def _rows(request: PageRequest, faults: dict[str, str]) -> list[BoundField]:
    now_set = bounds_in_force()
    rows = []
    for name, one in BOUNDS.items():
        usual, value = (plain_number(number * _scale(name)) for number in (USUAL[name], getattr(now_set, name)))
        typed = request.POST.get(name, value) if request.method == "POST" else value
        rows.append(BoundField(name, one.metadata["words"], one.metadata["unit"], usual, typed, faults.get(name, "")))
    return rows
