"""Figures that open their working, and ink bars: drawn often, so as one node each."""

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Any

from django import template
from django.urls import reverse
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from wise_tally.domain import formats
from wise_tally.web.deal_rows import DealRow
from wise_tally.web.files.tables import exports
from wise_tally.web.ink import InkBar
from wise_tally.web.working import pins

register = template.Library()
FORMATS: dict[str, Callable[..., str]] = {
    "whole": formats.whole,
    "hundredths": formats.hundredths,
    "count": formats.count,
    "times": formats.times,
    "percent": lambda rate: formats.percent(rate, 0),
}


@lru_cache
def _address(figure: str) -> str:
    return reverse("forecast:working", args=[figure])


@register.simple_tag
def opens(figure: str, query: str, value: object, shape: str = "whole") -> SafeString:
    """A forecast figure as a link to its working; `query` names scope and node."""
    text = FORMATS[shape](value)
    return format_html('<a class="open-figure" href="{}?{}" x-target="working">{}</a>', _address(figure), query, text)


@register.simple_tag
def figure(text: object, address: str, query: str = "", css: str = "") -> SafeString:
    """Any figure as a link to its working at an address."""
    where = f"{address}?{query}" if query else address
    return format_html('<a class="open-figure {}" href="{}" x-target="working">{}</a>', css, where, text)


@lru_cache(maxsize=4_096)
def _of_deal(key: str) -> str:
    return reverse("deals:figure", args=[key, "amount"])


@register.simple_tag
def deal_amount(row: DealRow, query: str = "") -> SafeString:
    """A deal's amount in whole units as a link to its working."""
    return figure(formats.whole(row.amount_minor), _of_deal(row.key), query)


SPARK_WIDTH, SPARK_HEIGHT = 84, 28


@register.simple_tag
def spark(values: Sequence[float]) -> SafeString:
    """A small line of what a figure was, its last point marked; nothing for fewer than two values."""
    if len(values) < 2:
        return SafeString("")
    low, high = min(values), max(values)
    step = (SPARK_WIDTH - 8) / (len(values) - 1)
    points = [
        (
            round(4 + index * step, 1),
            round(SPARK_HEIGHT - 4 - (value - low) / ((high - low) or 1) * (SPARK_HEIGHT - 8), 1),
        )
        for index, value in enumerate(values)
    ]
    return format_html(
        '<svg class="spark" viewBox="0 0 {} {}" aria-hidden="true"><polyline points="{}"/><circle cx="{}" cy="{}" r="3"/></svg>',
        SPARK_WIDTH, SPARK_HEIGHT, " ".join(f"{x},{y}" for x, y in points), *points[-1],
    )  # fmt: skip


@register.simple_tag
def ink(bar: InkBar) -> SafeString:
    """The ink bar: segments by certainty, a full-height stroke for the quota, a short mark for the pace."""
    segments = format_html_join(
        "",
        '<rect class="{}" x="{}" y="3.5" width="{}" height="9.5"/>',
        ((part.grade, part.left, part.width) for part in bar.segments),
    )
    quota, pace = SafeString(""), SafeString("")
    if bar.quota:
        quota = format_html('<line class="quota" x1="{0}" x2="{0}" y1="1" y2="15.5"/>', bar.quota)
    if bar.pace:
        pace = format_html('<svg x="{}" overflow="visible"><path class="pace" d="M0 12.5l4 5h-8z"/></svg>', bar.pace)
    if not bar.words:
        return format_html('<svg class="ink" aria-hidden="true">{}{}{}</svg>', segments, quota, pace)
    return format_html('<svg class="ink" role="img" aria-label="{}">{}{}{}</svg>', bar.words, segments, quota, pace)


@register.simple_tag
def chance_bar(chance: float | None) -> SafeString:
    """A chance of 0 to 1 as a short bar with its percentage."""
    if chance is None:
        return SafeString(formats.NONE_SIGN)
    bar = format_html(
        '<rect width="100%" height="10"/><rect class="of" width="{}%" height="10"/>', f"{chance * 100:.1f}"
    )
    words = formats.percent(chance, 0)
    return format_html('<span class="chance"><svg aria-hidden="true">{}</svg>{}</span>', bar, words)


@register.simple_tag
def files(name: str, query: str, table: str, *about: str) -> SafeString:
    """Links to the files of a further table of a page; the main one's stand in the footer."""
    links = format_html_join(
        " · ", '<a href="{}&amp;table={}">{}</a>', ((url, table, kind) for kind, url in exports(name, query, *about))
    )
    return format_html('<span class="small files">{}</span>', links)


@register.simple_tag(takes_context=True)
def against_pinned(context: dict[str, Any]) -> pins.Summary | None:
    """The opened working against the pinned figure."""
    return pins.summary(context["request"])


@register.simple_tag(takes_context=True)
def pin_address(context: dict[str, Any]) -> str:
    """The address by which the opened working can be pinned; empty where it cannot."""
    request = context["request"]
    return request.get_full_path() if pins.can_pin(request) else ""
