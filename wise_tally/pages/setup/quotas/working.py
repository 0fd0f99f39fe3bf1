"""The working of a sum of the quota plan: its months, and the parts of each."""

from django.http import HttpResponse
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.book.store import books
from wise_tally.core.targets import added, quotas
from wise_tally.domain.formats import plan_value
from wise_tally.domain.org.clock import today
from wise_tally.pages.setup.quotas.view import PlanNode, PlanView
from wise_tally.pages.setup.quotas.views import opened
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.working.panel import Panel, PanelTerm, panel_response

SUMS = {
    "own": "Total of the monthly quotas set for this row.",
    "parts": "Total of the quotas of the rows below; rows without a quota count with the total of theirs.",
    "difference": "Quota set for this row − total of the rows below.",
}
QUARTERS = ("1", "2", "3", "4")


@require_safe
def working(request: PageRequest, what: str) -> HttpResponse:
    """How a sum of the plan came about; `what` is own, parts, difference, or the number of a quarter."""
    view, nodes = opened(request)
    if what not in (*SUMS, *QUARTERS):
        raise Refused(f"“{what[:40]}” is not a sum of the plan. Choose one of: {', '.join((*SUMS, *QUARTERS))}.", 404)
    token = request.GET.get("node", "")
    node = next((node for node in nodes if node.token == token), None)
    if node is None:
        raise Refused(f"The row “{token[:60]}” does not exist. Go back and choose one from the page.", 404)
    return panel_response(request, None, _panel(view, node, what), f"{reverse('setup:quotas')}?{view.query()}")


def _panel(view: PlanView, node: PlanNode, what: str) -> Panel:
    reference, day = books.current().reference, today()
    of_quarter = what in QUARTERS
    periods = view.periods[3 * (int(what) - 1) : 3 * int(what)] if of_quarter else view.periods
    targets = [
        view.target(quotas(reference, day, period, str(view.kind.metric), view.kind.filters), node)
        for period in periods
    ]
    name = {"parts": "of_parts", "difference": "difference"}.get(what, "own")
    terms = tuple(
        PanelTerm(f"{period.starts_on:%B %Y}", plan_value(getattr(target, name), view.kind.is_money))
        for period, target in zip(periods, targets, strict=True)
    )
    if what == "difference":
        whole = added(targets)
        sides = (("set", whole.own), ("− parts", whole.of_parts))
        terms = tuple(PanelTerm(words, plan_value(value, view.kind.is_money)) for words, value in sides)
    total = plan_value(getattr(added(targets), name), view.kind.is_money)
    words = f"quarter {what}" if of_quarter else {"own": "set", "parts": "parts", "difference": "difference"}[what]
    return Panel(f"{words.capitalize()}, {node.name}", SUMS.get(what, SUMS["own"]), terms, total, words)
