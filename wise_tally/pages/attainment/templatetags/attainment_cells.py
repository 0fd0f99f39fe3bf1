"""Figures of attainment as links to their working: those of deals in the forecast, others in this place."""

from collections.abc import Callable
from typing import Any

from django import template
from django.urls import reverse
from django.utils.safestring import SafeString

from wise_tally.domain import formats
from wise_tally.pages.attainment.query import AttainmentQuery
from wise_tally.web.templatetags.workings import figure

register = template.Library()
OWN = ("needed", "at_pace", "deals_needed")
RATIOS = ("attainment", "to_date")
SHAPES: dict[str, Callable[[Any], str]] = {
    "whole": formats.whole,
    "count": formats.count,
    "percent": lambda value: formats.percent(value, 0),
}
# Below this share of its pace a row is behind.
BEHIND = 0.8


@register.simple_tag
def attained(query: AttainmentQuery, name: str, parameters: str, value: Any, css: str = "") -> SafeString:
    """A figure in the unit of the metric; attainment below four fifths of pace is marked in words, sign and colour."""
    text = _text(query, name, value, css)
    if name == "to_date" and value is not None and value < BEHIND:
        text, css = f"▼ {text}", f"{css} behind"
    index = "attainment" if name in OWN or query.counts_activities else "forecast"
    return figure(text, reverse(f"{index}:working", args=[name]), parameters, css)


def _text(query: AttainmentQuery, name: str, value: Any, css: str) -> str:
    if name in RATIOS:
        return formats.percent(value, 0)
    if name == "deals_needed":
        return formats.count(value)
    if query.in_hundredths:
        return formats.hundredths(value)
    return formats.short(value) if "large" in css else formats.whole(value)


@register.simple_tag
def compared(name: str, query: str, value: Any, shape: str) -> SafeString:
    """A figure of a span as a link to its working."""
    return figure(SHAPES[shape](value), reverse("forecast:working", args=[name]), query)


@register.filter
def changed(value: Any, shape: str) -> str:
    """A change with its sign; shares change in points."""
    if value is None:
        return formats.NONE_SIGN
    text = f"{value * 100:z.0f} pts" if shape == "percent" else formats.whole(value) if shape == "whole" else f"{value}"
    return formats.signed(text.replace("-", formats.MINUS), value)
