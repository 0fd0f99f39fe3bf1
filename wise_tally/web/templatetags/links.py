"""Addresses and the links that choose among values of a page."""

from functools import lru_cache
from typing import Any
from urllib.parse import urlencode

from django import template
from django.urls import reverse

from wise_tally.web.filter_line import FilterLine

register = template.Library()
# A page writes hundreds of addresses, most of them again on the next page.
path_of = lru_cache(maxsize=8192)(reverse)


@register.simple_tag
def scope_link(line: FilterLine, part: str, value: str) -> str:
    """The query string with one part of the scope changed."""
    return line.page_query(**{part: value})


@register.simple_tag(takes_context=True)
def address(context: dict[str, Any], named: str, *args: str, query: str | None = None, **more: Any) -> str:
    """The address of a page: with `query`, else with the scope of the present page; `more` are further parts, None for none."""
    line = context.get("line")
    given = query if query is not None else line.plain_query if line else ""
    own = urlencode([(name, value) for name, value in more.items() if value is not None])
    parameters = "&".join(part for part in (given, own) if part)
    path = path_of(named, args=args)
    return f"{path}?{parameters}" if parameters else path
