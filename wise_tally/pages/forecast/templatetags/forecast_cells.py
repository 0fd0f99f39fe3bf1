"""Values of the forecast in the unit of what deals count for, as links to their working."""

from collections.abc import Sequence
from functools import lru_cache

from django import template
from django.urls import reverse
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from wise_tally.core.figure import Figure
from wise_tally.core.measures import IN_HUNDREDTHS
from wise_tally.domain import formats
from wise_tally.pages.forecast.overview import GridRow
from wise_tally.pages.forecast.query import ForecastQuery
from wise_tally.web.deal_rows import DealRow
from wise_tally.web.templatetags.workings import figure, opens

register = template.Library()
# The columns that a narrow screen keeps, and the last.
ALWAYS_SHOWN = 1


@register.simple_tag
def measured(measure: str, value: int | None, shape: str = "short") -> str:
    """A value of a measure: money short or in whole units, numbers of deals as they are."""
    if measure in IN_HUNDREDTHS:
        return formats.hundredths(value)
    return formats.short(value) if shape == "short" else formats.whole(value)


@register.filter
def exact_of(value: int | None, measure: str) -> str:
    """An exact value of a measure in its unit."""
    return formats.UNITS[measure](value)


@register.filter
def short_of(value: int | None, measure: str) -> str:
    """A value of a measure, money shortened."""
    return measured(measure, value)


@register.filter
def signed_of(value: int | None, measure: str) -> str:
    """A change of a measure with its sign, money shortened."""
    return formats.signed(measured(measure, value), value)


def shape_of(query: ForecastQuery, column: Figure) -> str:
    """How values of a column are written."""
    if column.kind == "money":
        return "hundredths" if query.measure in IN_HUNDREDTHS else "whole"
    return column.kind


@register.simple_tag
def column_cell(query: ForecastQuery, column: Figure, row: GridRow, index: int) -> SafeString:
    """The value of a column in a row, opening its working."""
    return opens(column.key, row.working, row.values[index], shape_of(query, column))


@register.simple_tag
def measured_cell(query: ForecastQuery, column: Figure, working: str, value: int | float | None) -> SafeString | str:
    """The value of a column for a working's query; nothing where the row has none."""
    return "" if value is None else opens(column.key, working, value, shape_of(query, column))


@register.simple_tag
def read_deal(query: ForecastQuery, deal: DealRow, values: Sequence[int | None], parameters: str) -> SafeString:
    """The row of a deal that is read, not edited: many stand on a page with all rows open, so it is drawn as one node."""
    words = [deal.stage_name, formats.day(deal.shown_day)]
    if deal.is_open:
        words += [deal.category_name, formats.points(deal.probability_bp)]
    working = _deal_working(deal.key)
    cells = format_html_join(
        "",
        '<td class="{}">{}</td>',
        (
            (
                _css(index, len(values)),
                "" if value is None else figure(measured(query.measure, value, "whole"), working, parameters),
            )
            for index, value in enumerate(values, 1)
        ),
    )
    late = SafeString(' <span class="watch">overdue</span>') if deal.is_overdue else ""
    return format_html(
        '<tr class="deal"><td colspan="2"><a href="{}">{}</a>{} <span class="quiet">{}</span></td>{}</tr>',
        _deal_page(deal.key),
        deal.name,
        late,
        " · ".join(words),
        cells,
    )


def _css(index: int, columns: int) -> str:
    return "optional" if index > ALWAYS_SHOWN and index < columns else ""


@lru_cache(maxsize=4_096)
def _deal_page(key: str) -> str:
    return reverse("deals:deal", args=[key])


@lru_cache(maxsize=4_096)
def _deal_working(key: str) -> str:
    return reverse("deals:figure", args=[key, "weighted"])
