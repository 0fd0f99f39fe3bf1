"""Drawings of tallies: figures that open their working, columns and lines."""

from django import template
from django.utils.html import format_html, format_html_join
from django.utils.safestring import SafeString

from wise_tally.pages.team.tallies.result import FEW_LINES, Cell, Result

register = template.Library()
WIDTH, HEIGHT, FOOT = 600, 110, 18
DASHES = ("", "6 4", "2 3", "8 3 2 3")


@register.simple_tag
def value(result: Result, cell: Cell, css: str = "") -> SafeString:
    """A value as a link to its working; one with few deals behind it says so."""
    text = result.write(cell.value, is_short="large" in css)
    link = format_html('<a class="open-figure {}" href="{}" x-target="working">{}</a>', css, cell.url, text)
    if cell.value is None and cell.reason:
        return format_html('{} <span class="quiet small">{}</span>', link, cell.reason)
    if not cell.small or cell.value is None:
        return link
    return format_html(
        '{} <span class="quiet small" title="Based on fewer than 20 deals; uncertain">small</span>', link
    )


@register.simple_tag
def change_words(result: Result) -> str:
    """A change with its sign."""
    change = result.change
    if not change:
        return ""
    text = f"{abs(change) * 100:.0f} pts" if result.shape == "percent" else result.write(abs(change))
    return f"{'▲ +' if change > 0 else '▼ −'}{text}"


@register.simple_tag
def columns(result: Result) -> SafeString:
    """A column a span for the only row, its value above; the largest reaches the top."""
    if not result.rows:
        return SafeString("")
    cells = result.rows[0].cells
    largest = max([1e-9, *(cell.value or 0 for cell in cells)])
    step = WIDTH / len(cells)
    every = 1 if len(cells) <= 14 else 2
    parts = []
    for index, (cell, head) in enumerate(zip(cells, result.heads, strict=True)):
        height = max(0.0, (cell.value or 0) / largest) * (HEIGHT - 24)
        left, top = index * step + step * 0.14, HEIGHT - height
        text = result.write(cell.value, is_short=True) if index % every == 0 else ""
        label = head if index % every == 0 else ""
        middle = round(index * step + step / 2, 1)
        parts.append(
            (
                round(left, 1),
                round(top, 1),
                round(step * 0.72, 1),
                round(height, 1),
                middle,
                round(top - 5, 1),
                text,
                middle,
                HEIGHT + FOOT - 3,
                label,
            )
        )
    bars = format_html_join(
        "",
        '<rect class="bar" x="{}" y="{}" width="{}" height="{}"/><text x="{}" y="{}">{}</text><text x="{}" y="{}">{}</text>',
        parts,
    )
    words = ", ".join(
        f"{head} {result.write(cell.value, is_short=True)}" for head, cell in zip(result.heads, cells, strict=True)
    )
    return format_html(
        '<svg class="columns" viewBox="0 0 {} {}" role="img" aria-label="{}">{}</svg>',
        WIDTH,
        HEIGHT + FOOT,
        words,
        bars,
    )


@register.simple_tag
def lines(result: Result) -> SafeString:
    """A line a row, told apart by dashes and by the name at its end."""
    rows = result.rows[:FEW_LINES]
    largest = max([1e-9, *(cell.value or 0 for row in rows for cell in row.cells)])
    room = WIDTH - 150
    step = room / max(1, len(result.heads) - 1)

    def y_of(cell: Cell) -> float:
        return round(HEIGHT - (cell.value or 0) / largest * (HEIGHT - 10), 1)

    drawn: list[tuple[object, ...]] = []
    taken: list[float] = []
    for index, row in enumerate(rows):
        points = " ".join(f"{round(i * step, 1)},{y_of(cell)}" for i, cell in enumerate(row.cells))
        label_y = y_of(row.cells[-1])
        while any(abs(label_y - other) < 13 for other in taken):
            label_y += 13
        taken.append(label_y)
        drawn.append(
            (points, DASHES[index], room + 6, label_y, f"{row.name} {result.write(row.cells[-1].value, is_short=True)}")
        )
    body = format_html_join(
        "",
        '<polyline class="tally-line" points="{}" stroke-dasharray="{}"/>'
        '<text class="at-end" x="{}" y="{}" dominant-baseline="middle">{}</text>',
        drawn,
    )
    top = format_html(
        '<line class="rule" x1="0" x2="{}" y1="10" y2="10"/><text x="0" y="6">{}</text><line class="rule" x1="0" x2="{}" y1="{}" y2="{}"/>',
        room, result.write(largest, is_short=True), room, HEIGHT, HEIGHT,
    )  # fmt: skip
    ends = [(0, result.heads[0], "start"), (room, result.heads[-1], "end")]
    feet = format_html_join(
        "",
        '<text x="{}" y="{}" text-anchor="{}">{}</text>',
        ((x, HEIGHT + FOOT, anchor, text) for x, text, anchor in ends),
    )
    names = ", ".join(row.name for row in rows)
    return format_html(
        '<svg class="chart tally-lines" viewBox="0 0 {} {}" role="img" aria-label="{}">{}{}{}</svg>',
        WIDTH,
        HEIGHT + FOOT + 6,
        names,
        top,
        body,
        feet,
    )
