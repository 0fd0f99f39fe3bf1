"""Values of the forecast in the unit of what deals count for, as links to their working."""

from django import template
from django.utils.safestring import SafeString

from wise_tally.core.measures import DEALS
from wise_tally.forecast.columns import Column
from wise_tally.forecast.grid import GridRow
from wise_tally.forecast.question import Asked
from wise_tally.scope.templatetags.workings import opens
from wise_tally.ui.templatetags import figures

register = template.Library()


@register.simple_tag
def measured(measure: str, value: int | None, shape: str = "short") -> str:
    """A value of a measure: money short or in whole units, numbers of deals as they are."""
    if measure == DEALS:
        return figures.hundredths(value)
    return figures.short(value) if shape == "short" else figures.whole(value)


def shape_of(asked: Asked, column: Column) -> str:
    """How values of a column are written."""
    if column.shape == "money":
        return "hundredths" if asked.measure == DEALS else "whole"
    return column.shape


@register.simple_tag
def column_cell(asked: Asked, column: Column, row: GridRow, place: int) -> SafeString:
    """The value of a column in a row, opening its working."""
    return opens(column.name, row.working, row.values[place], shape_of(asked, column))


@register.simple_tag
def measured_cell(asked: Asked, column: Column, working: str, value: int | None) -> SafeString | str:
    """The value of a column for a working's query; nothing where the row has none."""
    return "" if value is None else opens(column.name, working, value, shape_of(asked, column))
