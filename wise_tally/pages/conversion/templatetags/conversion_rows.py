"""Rows of breakdowns as plain texts: a page may draw hundreds, and a template node a cell costs more than its figure.

Names and addresses are escaped here; figures and places come from numbers.
"""

from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import quote_plus

from django import template
from django.urls import reverse
from django.utils.html import escape, format_html
from django.utils.safestring import SafeString, mark_safe

from wise_tally.core.conversion import ConversionGroup
from wise_tally.core.time_in_stage import DaysToWin
from wise_tally.domain import formats
from wise_tally.pages.conversion.drawing import PassingRow, TimeGroup, TimeRow

register = template.Library()
FEW = 20
SMALL = f' <span class="quiet" title="Fewer than {FEW} deals: read its rates with care">small</span>'
# The columns of a stage's time: name, how it is written, class of the cell.
STAGE_TIMES: tuple[tuple[str, Callable[[Any], str], str], ...] = (
    ("km_median", formats.days, ""),
    ("km_p75", formats.days, ""),
    ("typical_days", formats.days, ""),
    ("stays", formats.count, "optional"),
    ("completed", formats.count, "optional"),
    ("running", formats.count, ""),
    ("running_mean_age", formats.days, "optional"),
    ("overstaying", formats.count, ""),
)
TIME_ROW = (
    '<tr><td>%(name)s</td><td class="ink-cell left"><svg class="ink" aria-hidden="true">%(strip)s</svg></td>'
    + "".join(
        f'<td class="{css}"><a class="open-figure{"%(mark)s" if name == "overstaying" else ""}" href="%(address)s"'
        f' x-target="working">%({name})s</a></td>'
        for name, _, css in STAGE_TIMES
    )
    + "</tr>"
)
MEDIAN = (
    '<rect class="bar" y="5" height="7" width="{0}" /><line class="quota" x1="{0}" x2="{0}" y1="2" y2="15" />'.format
)
UPPER_QUARTILE = '<line class="dotted" x1="{0}" x2="{0}" y1="2" y2="15" />'.format
RUNNING = '<circle class="running" cx="{}" cy="3" r="1.8" />'.format
TYPICAL = '<svg x="{}" overflow="visible"><path class="pace" d="M0 11l4 6h-8z" /></svg>'.format


@register.simple_tag
def time_rows(group: TimeGroup) -> SafeString:
    """A row a stage: name, strip of durations, and figures that all open one working."""
    address = f"{reverse('conversion:working', args=['time'])}?{group.query}&stage="
    return mark_safe("".join(TIME_ROW % _time_row(row, address) for row in group.rows))


def _time_row(row: TimeRow, address: str) -> dict[str, str]:
    time = row.time
    return {
        "name": escape(row.name),
        "strip": _strip(row),
        "address": escape(address + quote_plus(row.key)),
        "mark": " watch" if time.overstaying else "",
        **{name: shape(getattr(time, name)) for name, shape, _ in STAGE_TIMES},
    }


def _strip(row: TimeRow) -> str:
    """Median as bar and stroke, 75th percentile dotted, running stays as rings, typical days as a mark below."""
    drawn = [MEDIAN(row.median_at)] if row.median_at else []
    drawn += [UPPER_QUARTILE(row.p75_at)] if row.p75_at else []
    drawn += [RUNNING(index) for index in row.running_at]
    drawn += [TYPICAL(row.typical_at)] if row.typical_at else []
    return "".join(drawn)


def _opening(address: str, text: str, more: str = "") -> str:
    """A cell whose figure opens the working at an address."""
    return f'<td><a class="open-figure" href="{address}" x-target="working">{text}</a>{more}</td>'


@register.simple_tag
def days_to_win_rows(rows: Sequence[tuple[str, str, DaysToWin]]) -> SafeString:
    """A row a name and query: deals won, median and mean of the days to win, each opening the working."""
    address = reverse("conversion:working", args=["days_to_win"])
    drawn = []
    for name, query, row in rows:
        texts = (formats.count(row.deals), formats.days(row.median), formats.days(row.mean))
        cells = (_opening(escape(f"{address}?{query}"), text) for text in texts)
        drawn.append(f"<tr><td>{escape(name)}</td>{''.join(cells)}</tr>")
    return mark_safe("".join(drawn))


@register.simple_tag
def passing_groups(groups: Sequence[tuple[str, str, ConversionGroup]], rows: Sequence[PassingRow]) -> SafeString:
    """A row a node: deals that reached each stage, undecided ones, and both win rates; each opens its working."""
    reached, created, closed = (
        escape(reverse("conversion:working", args=[name])) for name in ("reached", "of_created", "of_closed")
    )
    drawn = []
    for alone, query, group in groups:
        where, totals = escape(query), group.totals
        name: str = escape(group.name or "without one")
        if alone:
            name = f'<a href="?{escape(alone)}" title="Look at this row alone">{name}</a>'
        cells = [
            _opening(f"{reached}?{where}&amp;stage={quote_plus(row.key)}", formats.count(stage.reached))
            for row, stage in zip(rows, group.stages, strict=True)
        ]
        of_created, of_closed = f"{created}?{where}", f"{closed}?{where}"
        cells += [
            _opening(of_created, formats.count(totals.undecided), SMALL if totals.created < FEW else ""),
            _opening(of_created, formats.percent(totals.win_rate_of_created)),
            _opening(of_closed, formats.percent(totals.win_rate_of_closed)),
        ]
        drawn.append(f"<tr><td>{name}</td>{''.join(cells)}</tr>")
    return mark_safe("".join(drawn))


@register.simple_tag
def rate_strip(row: PassingRow, other: PassingRow | None) -> SafeString:
    """The share that moves on as a dot on an axis from 0 to 100 %, its interval as a band, that of the other as a stroke."""
    rate, interval, earlier = row.step, row.interval, other.step if other else None
    if rate is None:
        return SafeString("")
    band = (
        format_html(
            '<rect class="soft" x="{}" width="{}" y="6" height="8"/>',
            _at(interval.low),
            _at(interval.high - interval.low),
        )
        if interval
        else ""
    )
    stroke = (
        format_html('<line class="tick" x1="{0}" x2="{0}" y1="2" y2="18"/>', _at(earlier))
        if earlier is not None
        else ""
    )
    return format_html(
        '<svg class="rate-strip" aria-hidden="true"><line class="rule" x1="0" x2="100%" y1="10" y2="10"/>{}'
        '<circle cx="{}" cy="10" r="5"/>{}</svg>',
        band, _at(rate), stroke,
    )  # fmt: skip


def _at(rate: float) -> str:
    return f"{rate * 100:.1f}%"
