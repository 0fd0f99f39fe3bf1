"""Figures of reports as links to their working."""

from django import template
from django.utils.html import format_html
from django.utils.safestring import SafeString

from wise_tally.pages.team.tallies.result import Cell, Result

register = template.Library()


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
