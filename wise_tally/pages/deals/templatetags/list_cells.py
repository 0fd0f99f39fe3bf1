"""Cells of the list of deals: hundreds a page, so each is drawn as one node."""

from collections.abc import Callable
from functools import lru_cache
from typing import Any

from django import template
from django.urls import reverse
from django.utils.html import conditional_escape, format_html
from django.utils.safestring import SafeString

from wise_tally.domain import formats
from wise_tally.pages.deals.columns import Cell
from wise_tally.web.templatetags.workings import figure

register = template.Library()
SHAPES: dict[str, Callable[[Any], Any]] = {
    "money": formats.whole,
    "day": formats.day,
    "days": formats.age,
    "percent": formats.points,
    "count": formats.count,
}


# Columns whose figures open a working of their own.
WORKED_OUT = frozenset(("amount", "weighted", "days", "over", "slips", "slipped", "margin", "gap", "contacted"))


@lru_cache(maxsize=4_096)
def _working(key: str, figure: str) -> str:
    return reverse("deals:figure", args=[key, figure])


@register.simple_tag
def list_cell(cell: Cell, key: str = "", query: str = "") -> SafeString:
    """A cell with its value in the shape of its kind, marked where it wants a look; what is worked out opens its working."""
    shape = SHAPES.get(cell.kind)
    text = shape(cell.value) if shape else cell.value or ""
    if key and cell.name == "chance" and cell.value is not None:
        text = figure(text, reverse("deals:chance-working", args=[key]), query, "watch" if cell.watch else "")
    elif key and cell.name in WORKED_OUT and cell.value is not None:
        text = figure(text, _working(key, cell.name), query, "watch" if cell.watch else "")
    if cell.watch:
        text = format_html('<span class="watch">{} {}</span>', text, cell.watch)
    if cell.more:
        text = format_html('{} <span class="quiet small">{}</span>', text, cell.more)
    return format_html('<td class="{}">{}</td>', cell.css, conditional_escape(text))
