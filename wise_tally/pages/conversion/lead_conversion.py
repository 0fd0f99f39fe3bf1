"""Leads and before: lead → qualified → deal → won by source, with the days between."""

from collections.abc import Sequence

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_safe

from wise_tally.core.answers.conversion import of_leads
from wise_tally.core.leads import LeadFigures, LeadRows, StepFigures, lead_figures, leads_in, step_figures
from wise_tally.core.money import Ints
from wise_tally.core.reference_data import WON
from wise_tally.core.trees import NONE
from wise_tally.domain.formats import count, days, money, percent
from wise_tally.web.answers import answer_sentence, workings
from wise_tally.web.files.tables import Sheet, chosen_sheet, exports
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.lead_rows import lead_rows, lead_steps
from wise_tally.web.request.refusals import Refused
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.visibility import visible
from wise_tally.web.working.panel import FIRST_DEALS, Panel, PanelTerm, listed, panel_response

COLUMNS = {"leads": "leads", "open": "open", "dropped": "disqualified", "qualified": "qualified",
           "qualified_rate": "% qualified", "deals": "deals", "won": "won", "won_rate": "% won", "won_minor": "won amount",
           "days_to_qualify": "days to qualify", "days_to_win": "days to win"}  # fmt: skip

STEP_COLUMNS = {"reached": "reached", "moved_on": "moved on", "dropped": "disqualified", "open": "still there",
                "rate": "% moved on", "days": "median days"}  # fmt: skip


def read_leads(request: PageRequest) -> tuple[FilterLine, list[str], LeadRows]:
    """Leads of the period and scope that the viewer may see; names of their sources."""
    line = request.filter_line = read_scope(request, "year")
    names, every = lead_rows(line, visible(request).leads())
    return line, names, leads_in(line.book, line.snapshot, every, line.period, line.scope)


def _rows(line: FilterLine, names: list[str], leads: LeadRows) -> list[tuple[str, LeadFigures]]:
    values = np.unique(leads.value).tolist()
    rows = [(names[v] if v != NONE else "no source", lead_figures(line.snapshot, leads, v)) for v in values]
    return sorted(rows, key=lambda row: -row[1].leads)


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """The outcome of the leads of the period, by source."""
    line, names, leads = read_leads(request)
    whole = lead_figures(line.snapshot, leads)
    sentence = of_leads(whole.leads, whole.open, whole.qualified, whole.won, whole.qualified_rate)
    answer = {
        "answer_sentence": answer_sentence(
            sentence, workings("conversion:leads-working", line.query(), "qualified_rate", "won", "open")
        ),
        "whole": whole,
        "rows": _rows(line, names, leads),
        "steps": list(zip(lead_steps(), step_figures(line.snapshot, leads), strict=True)),
        "footer": Footer(
            lead_figures(line.snapshot, leads).deals, exports=exports("conversion:leads-table", line.query())
        ),
    }
    return render(request, "conversion/leads.html", answer)


def _of_step(request: PageRequest, figure: str) -> HttpResponse:
    """How a figure of a step of the leads' pipeline came about."""
    line, _, leads = read_leads(request)
    steps = dict(zip((step.key for step in lead_steps()), step_figures(line.snapshot, leads), strict=True))
    names, key = {step.key: step.name for step in lead_steps()}, request.GET.get("step", "")
    if figure not in STEP_COLUMNS or key not in steps:
        raise Refused(
            f"“{figure[:40]}” is not a figure of this step. Choose one of: {', '.join(STEP_COLUMNS)}, with a step of the page.",
            404,
        )
    figures = steps[key]
    terms = (
        ("reached the step", count(figures.reached)),
        ("moved on", count(figures.moved_on)),
        ("disqualified there", count(figures.dropped)),
        ("still in the step", count(figures.open)),
        ("moved on ÷ (moved on + disqualified)", percent(figures.rate)),
        ("median days of those who left the step", days(figures.days)),
    )
    totals = {"rate": percent(figures.rate), "days": days(figures.days)}
    panel = Panel(
        title=f"Leads, {names[key]}",
        definition="Leads created in the period that took any step by the date. A lead reached each step up to the furthest it "
        "took, a qualified lead all of them; going back takes no step away.",
        terms=tuple(PanelTerm(*term) for term in terms),
        total=totals.get(figure) or count(getattr(figures, figure)),
        total_words=STEP_COLUMNS[figure],
    )
    return panel_response(request, line, panel, f"{reverse('conversion:leads')}?{line.query()}")


@require_safe
def working(request: PageRequest, figure: str) -> HttpResponse:
    """How a figure of leads came about, of all, of a source or of a step."""
    if "step" in request.GET:
        return _of_step(request, figure)
    line, names, leads = read_leads(request)
    text = request.GET.get("source")
    if figure not in COLUMNS or (text and text not in names):
        raise Refused(
            f"“{figure[:40]}” is not a figure of leads here. Choose one of: {', '.join(COLUMNS)}, with a source of the page.",
            404,
        )
    value = None if text is None else names.index(text) if text else NONE
    panel = _panel(line, leads, (value, text or "all sources"), figure)
    return panel_response(request, line, panel, f"{reverse('conversion:leads')}?{line.query()}")


def _panel(line: FilterLine, leads: LeadRows, source: tuple[int | None, str], figure: str) -> Panel:
    value, name = source
    figures = lead_figures(line.snapshot, leads, value)
    counted = leads if value is None else leads.take(leads.value == value)
    rows, amount = _deals_of(line, counted, figure in ("won", "won_rate", "won_minor", "days_to_win"))
    terms = [
        ("leads created in the period", count(figures.leads)),
        ("still open", count(figures.open)),
        ("disqualified", count(figures.dropped)),
        ("qualified", count(figures.qualified)),
        ("with a deal", count(figures.deals)),
        ("of these won", count(figures.won)),
        ("won amounts", money(figures.won_minor)),
    ]
    totals = {
        "qualified_rate": percent(figures.qualified_rate), "won_rate": percent(figures.won_rate), "won_minor": money(figures.won_minor),
        "days_to_qualify": days(figures.days_to_qualify), "days_to_win": days(figures.days_to_win),
    }  # fmt: skip
    return Panel(
        title=f"Leads, {name}",
        definition="Leads created in the period, with their status today. A lead with a deal counts as qualified. Days "
        "are averages from creating the lead.",
        terms=tuple(PanelTerm(*term) for term in terms),
        total=totals.get(figure) or count(getattr(figures, figure)),
        total_words=COLUMNS[figure],
        **listed(line, rows, [money(int(v)) for v in amount[:FIRST_DEALS]], amount),
    )


def _deals_of(line: FilterLine, leads: LeadRows, won: bool) -> tuple[Ints, Ints]:
    """Deals that leads became, or those won of them: rows of the snapshot and amounts in minor units, the largest first."""
    rows = np.flatnonzero(np.isin(line.snapshot.deal, leads.deal))
    if won:
        rows = rows[line.snapshot.kind[rows] == WON]
    amount = line.snapshot.amount_minor[rows]
    order = np.argsort(-amount, kind="stable")
    return rows[order], amount[order]


@require_safe
def table(request: PageRequest, kind: str) -> HttpResponse:
    """The rows, or those of the steps, as a file."""
    line, names, leads = read_leads(request)
    rows = _rows(line, names, leads)
    steps = zip(lead_steps(), step_figures(line.snapshot, leads), strict=True)
    sheets = {
        "": lambda: _sheet("lead conversion", "source", COLUMNS, rows),
        "steps": lambda: _sheet("lead steps", "step", STEP_COLUMNS, [(step.name, row) for step, row in steps]),
    }
    return chosen_sheet(request, sheets, kind)


def _sheet(
    name: str, first: str, columns: dict[str, str], rows: Sequence[tuple[str, LeadFigures | StepFigures]]
) -> Sheet:
    cells = [(words, *(getattr(figures, column) for column in columns)) for words, figures in rows]
    return Sheet(name, (first, *columns.values()), frozenset({"won amount"}), cells)
