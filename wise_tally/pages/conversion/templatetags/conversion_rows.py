"""Rows of breakdowns as plain texts: a page may draw hundreds, and a template node a cell costs more than its figure.

Names and addresses are escaped here; figures and places come from numbers.
"""

from collections.abc import Callable, Sequence
from typing import Any
from urllib.parse import quote_plus

import numpy as np
from django import template
from django.urls import reverse
from django.utils.html import escape, format_html
from django.utils.safestring import SafeString, mark_safe

from wise_tally.core.conversion import ConversionGroup
from wise_tally.core.statistics import Interval, wilson_of_many
from wise_tally.core.time_in_stage import DaysToWin
from wise_tally.domain import formats
from wise_tally.pages.conversion.drawing import PassingRow, TimeGroup, TimeRow

register = template.Library()
FEW = 20
SMALL = f' <span class="quiet" title="Fewer than {FEW} deals: read its rates with care">small</span>'
# The columns of a stage's time: name, how it is written, attributes of the cell.
STAGE_TIMES: tuple[tuple[str, Callable[[Any], str], str], ...] = (
    ("km_median", formats.days, ""),
    ("km_p75", formats.days, ""),
    ("typical_days", formats.days, ""),
    ("stays", formats.count, ' class="optional"'),
    ("completed", formats.count, ' class="optional"'),
    ("running", formats.count, ""),
    ("running_mean_age", formats.days, ' class="optional"'),
    ("overstaying", formats.count, ""),
)
TIME_ROW = (
    '<tr><td>%(name)s</td><td class="ink-cell left"><svg class="ink time-ink%(deep)s" aria-hidden="true">%(strip)s</svg></td>'
    + "".join(
        f'<td{css}><a class="open-figure{"%(mark)s" if name == "overstaying" else ""}" href="%(address)s"'
        f' x-target="working">%({name})s</a></td>'
        for name, _, css in STAGE_TIMES
    )
    + "</tr>"
)
MEDIAN_BAR = '<rect class="bar" y="5" height="7" width="{}"/>'.format
MARK = '<line class="{1}" x1="{0}" x2="{0}" y1="2" y2="{2}"/>'.format
RUNNING = '<circle class="running" cx="{}" cy="{}" r="2"/>'.format
TYPICAL = '<svg x="{}" y="{}" overflow="visible"><path class="pace" d="M0 0l4 6h-8z" /></svg>'.format
SHAPE = '<svg viewBox="0 0 {} 1" preserveAspectRatio="none" y="2" height="28"><path class="soft" d="M0 1{}V1z" /></svg>'.format
# Where the strip with a shape has its foot, and the thin one.
FOOT, THIN_FOOT = 30, 14


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
        "deep": " deep" if row.shape else "",
        "address": escape(address + quote_plus(row.key)),
        "mark": " watch" if time.overstaying else "",
        **{name: shape(getattr(time, name)) for name, shape, _ in STAGE_TIMES},
    }


def _strip(row: TimeRow) -> str:
    """Who leaves when as a shape (on thin strips the median as a bar), with marks of the axis, the median as a stroke,
    the 75th percentile dotted, typical days as a mark below, running stays as rings.
    """
    foot = FOOT if row.shape else THIN_FOOT
    steps = "".join(f"V{1 - part:g}H{index}" for index, part in enumerate(row.shape, 1))
    drawn = [MARK(tick, "rule", foot) for tick in row.ticks_at]
    drawn += [SHAPE(len(row.shape), steps)] if row.shape else [MEDIAN_BAR(row.median_at)] if row.median_at else []
    drawn += [MARK(row.median_at, "quota", foot)] if row.median_at else []
    drawn += [MARK(row.p75_at, "dotted", foot)] if row.p75_at else []
    drawn += [RUNNING(tick, foot + 9 if row.shape else 3) for tick in row.running_at]
    drawn += [TYPICAL(row.typical_at, foot - 3 if not row.shape else foot)] if row.typical_at else []
    return "".join(drawn)


@register.simple_tag
def time_axis(group: TimeGroup) -> SafeString:
    """The marks of the strips in days, over their column."""
    ends = {0: "start", len(group.axis) - 1: "end"}
    words = (
        f'<text x="{position}" y="13" text-anchor="{ends.get(index, "middle")}">{text}{" d" if index in ends and index else ""}</text>'
        for index, (position, text) in enumerate(group.axis)
    )
    return mark_safe(f'<svg class="axis-ink">{"".join(words)}</svg>')


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
def passing_groups(
    groups: Sequence[tuple[str, str, ConversionGroup]], rows: Sequence[PassingRow], whole: ConversionGroup
) -> SafeString:
    """A row a node: deals that reached each stage, undecided ones, and both win rates; each opens its working.

    The win rate of closed deals stands on a strip, too, with its interval and that of the whole as a stroke.
    """
    reached, created, closed = (
        escape(reverse("conversion:working", args=[name])) for name in ("reached", "of_created", "of_closed")
    )
    drawn = []
    for (alone, query, group), interval in zip(groups, _closed_intervals(groups), strict=True):
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
            f'<td class="optional">{_rate_strip(totals.win_rate_of_closed, interval, whole.totals.win_rate_of_closed)}</td>',
        ]
        drawn.append(f"<tr><td>{name}</td>{''.join(cells)}</tr>")
    return mark_safe("".join(drawn))


def _closed_intervals(groups: Sequence[tuple[str, str, ConversionGroup]]) -> list[Interval | None]:
    """The intervals of the win rates of closed deals; none where amounts are counted, which have none."""
    totals = [group.totals for *_, group in groups]
    if any(group.table.by_value for *_, group in groups):
        return [None] * len(groups)
    won = np.array([total.closed_won for total in totals])
    return wilson_of_many(won, won + np.array([total.closed_lost for total in totals]))


@register.simple_tag
def rate_strip(row: PassingRow, other: PassingRow | None) -> SafeString:
    """The share that moves on as a dot on an axis from 0 to 100 %, its interval as a band, that of the other as a stroke."""
    return _rate_strip(row.step, row.interval, other.step if other else None)


def _rate_strip(rate: float | None, interval: Interval | None, earlier: float | None) -> SafeString:
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
