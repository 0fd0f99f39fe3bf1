"""Links that keep the scope and change one part of it."""

from django import template

from wise_tally.web.filter_line import FilterLine

register = template.Library()


@register.simple_tag
def scope_link(line: FilterLine, part: str, value: str) -> str:
    """The query string with one part changed."""
    return line.page_query(**{part: value})
