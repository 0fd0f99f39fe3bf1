"""Cells and small drawings of conversion, drawn often, so as one node each."""

from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import quote_plus, urlencode

from django import template
from django.urls import reverse
from django.utils.html import escape, format_html_join
from django.utils.safestring import SafeString, mark_safe

from wise_tally.conversion.drawing import TimeGroup, TimeRow
from wise_tally.conversion.over_time import MonthCell, Series
from wise_tally.core.leads import LeadFigures
from wise_tally.core.time_in_stage import DaysToWin
from wise_tally.scope.line import ScopeLine
from wise_tally.scope.templatetags.workings import figure
from wise_tally.ui.ink import share
from wise_tally.ui.templatetags import figures

register = template.Library()
SHAPES: dict[str, Callable[[Any], str]] = {
    "count": figures.count,
    "money": lambda value: figures.whole(None if value is None else round(value)),
    "percent": figures.percent,
    "days": figures.days,
}
LEADS = {
    "qualified_rate": "percent",
    "won_rate": "percent",
    "won_minor": "money",
    "days_to_qualify": "days",
    "days_to_win": "days",
}
# The columns of a stage's time: name, how it is written, class of the cell.
STAGE_TIMES = (
    ("km_median", "days", ""),
    ("km_p75", "days", ""),
    ("typical_days", "days", ""),
    ("stays", "count", "optional"),
    ("completed", "count", "optional"),
    ("running", "count", ""),
    ("running_mean_age", "days", "optional"),
    ("overstaying", "count", ""),
)
# Rows as plain texts, filled at once: a page may draw hundreds, and a template node a cell costs more than its figure.
TIME_ROW = (
    '<tr><td>%(name)s</td><td class="ink-cell left"><svg class="ink" aria-hidden="true">%(strip)s</svg></td>'
    + "".join(
        f'<td class="{css}"><a class="open-figure{"%(mark)s" if name == "overstaying" else ""}" href="%(address)s"'
        f' x-target="working">%({name})s</a></td>'
        for name, _, css in STAGE_TIMES
    )
    + "</tr>"
)
DAYS_TO_WIN_ROW = (
    "<tr><td>%s</td>" + 3 * '<td><a class="open-figure" href="%s" x-target="working">%s</a></td>' + "</tr>"
)
MEDIAN = (
    '<rect class="bar" y="5" height="7" width="{0}" /><line class="quota" x1="{0}" x2="{0}" y1="2" y2="15" />'.format
)
UPPER_QUARTILE = '<line class="dotted" x1="{0}" x2="{0}" y1="2" y2="15" />'.format
RUNNING = '<circle class="running" cx="{}" cy="3" r="1.8" />'.format
TYPICAL = '<svg x="{}" overflow="visible"><path class="pace" d="M0 11l4 6h-8z" /></svg>'.format


@register.filter
def rounded(value: float | None) -> int | None:
    """A mean of money as a whole number of minor units."""
    return None if value is None else round(value)


@register.simple_tag
def lead_figure(name: str, row: LeadFigures, line: ScopeLine, css: str = "", source: str | None = None) -> SafeString:
    """A figure of leads as a link to its working; `source` is the row's, none for all."""
    text = SHAPES[LEADS.get(name, "count")](getattr(row, name))
    own = [] if source is None else [("source", "" if row.value < 0 else source)]
    query = "&".join(part for part in (line.query(), urlencode(own)) if part)
    return figure(text, reverse("conversion:leads-working", args=[name]), query, css)


@register.simple_tag
def month_cell(cell: MonthCell, series: Sequence[Series], place: int, month: str, query: str) -> SafeString:
    """A month's value as a link to its working, marked where it stands out."""
    one = series[place]
    text = SHAPES[one.shape](cell.value)
    given = f"{query}&{urlencode({'month': month})}"
    return figure(
        text, reverse("conversion:over-time-working", args=[one.name]), given, "watch" if cell.stands_out else ""
    )


@register.simple_tag
def month_bars(cells: Sequence[MonthCell]) -> SafeString:
    """A column a month; those that stand out are outlined."""
    return format_html_join(
        "",
        '<rect class="{}" x="{}" y="{}" width="{}" height="{}"/>',
        (
            (
                "fall" if cell.stands_out else "bar",
                share(place, len(cells)),
                cell.top,
                share(8, len(cells) * 10),
                cell.height,
            )
            for place, cell in enumerate(cells)
        ),
    )


@register.simple_tag
def time_rows(group: TimeGroup) -> SafeString:
    """A row a stage: name, strip of durations, and figures that all open one working."""
    address = f"{reverse('conversion:working', args=['time'])}?{group.query}&stage="
    # Names and addresses are escaped; figures and places come from numbers.
    return mark_safe("".join(TIME_ROW % _time_row(row, address) for row in group.rows))


def _time_row(row: TimeRow, address: str) -> dict[str, str]:
    time = row.time
    return {
        "name": escape(row.name),
        "strip": _strip(row),
        "address": escape(address + quote_plus(row.key)),
        "mark": " watch" if time.overstaying else "",
        **{name: SHAPES[shape](getattr(time, name)) for name, shape, _ in STAGE_TIMES},
    }


def _strip(row: TimeRow) -> str:
    """Median as bar and stroke, 75th percentile dotted, running stays as rings, typical days as a mark below."""
    drawn = [MEDIAN(row.median_at)] if row.median_at else []
    drawn += [UPPER_QUARTILE(row.p75_at)] if row.p75_at else []
    drawn += [RUNNING(place) for place in row.running_at]
    drawn += [TYPICAL(row.typical_at)] if row.typical_at else []
    return "".join(drawn)


@register.simple_tag
def days_to_win_rows(rows: Sequence[tuple[str, str, DaysToWin]]) -> SafeString:
    """A row a name and query: deals won, median and mean of the days to win, each opening the working."""
    address = reverse("conversion:working", args=["days_to_win"])
    drawn = []
    for name, query, row in rows:
        where = escape(f"{address}?{query}")
        texts = (figures.count(row.deals), figures.days(row.median), figures.days(row.mean))
        drawn.append(DAYS_TO_WIN_ROW % (escape(name), *(part for text in texts for part in (where, text))))
    return mark_safe("".join(drawn))
