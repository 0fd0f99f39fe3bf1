"""Links that keep the scope and change one part of it."""

from django import template

from wise_tally.web.filter_line import ScopeLine

register = template.Library()


@register.simple_tag
def scope_link(line: ScopeLine, part: str, value: str) -> str:
    """The query string with one part changed."""
    return line.page_query(**{part: value})
