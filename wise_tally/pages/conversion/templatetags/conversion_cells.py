"""Cells and small drawings of conversion, drawn often, so as one node each."""

from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import urlencode

from django import template
from django.urls import reverse
from django.utils.safestring import SafeString

from wise_tally.core.leads import LeadFigures, StepFigures
from wise_tally.domain import formats
from wise_tally.pages.conversion.month_chart import MonthCell, Series
from wise_tally.web.filter_line import FilterLine
from wise_tally.web.templatetags.workings import figure

register = template.Library()
SHAPES: dict[str, Callable[[Any], str]] = {
    "count": formats.count,
    "money": lambda value: formats.whole(None if value is None else round(value)),
    "percent": formats.percent,
    "days": formats.days,
}
LEADS = {
    "qualified_rate": "percent",
    "won_rate": "percent",
    "won_minor": "money",
    "days_to_qualify": "days",
    "days_to_win": "days",
    "rate": "percent",
    "days": "days",
}


@register.filter
def rounded(value: float | None) -> int | None:
    """A mean of money as a whole number of minor units."""
    return None if value is None else round(value)


@register.simple_tag
def lead_figure(name: str, row: LeadFigures, line: FilterLine, css: str = "", source: str | None = None) -> SafeString:
    """A figure of leads as a link to its working; `source` is the row's, none for all."""
    own = {} if source is None else {"source": "" if row.value < 0 else source}
    return _of_leads(name, row, line, own, css)


@register.simple_tag
def step_figure(name: str, row: StepFigures, line: FilterLine, step: str) -> SafeString:
    """A figure of a step of the leads' pipeline as a link to its working."""
    return _of_leads(name, row, line, {"step": step})


def _of_leads(name: str, row: object, line: FilterLine, own: dict[str, str], css: str = "") -> SafeString:
    text = SHAPES[LEADS.get(name, "count")](getattr(row, name))
    query = "&".join(part for part in (line.query(), urlencode(own)) if part)
    return figure(text, reverse("conversion:leads-working", args=[name]), query, css)


@register.simple_tag
def month_cell(cell: MonthCell, series: Sequence[Series], index: int, month: str, query: str) -> SafeString:
    """A month's value as a link to its working, marked where it stands out."""
    one = series[index]
    text = SHAPES[one.shape](cell.value)
    given = f"{query}&{urlencode({'month': month})}"
    return figure(
        text, reverse("conversion:over-time-working", args=[one.name]), given, "watch" if cell.stands_out else ""
    )
