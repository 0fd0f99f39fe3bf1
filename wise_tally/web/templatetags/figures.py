"""Numbers reach HTML only through these filters; `domain/formats.py` says how each is written."""

from collections.abc import Sequence
from typing import Any

from django import template

from wise_tally.domain import formats
from wise_tally.web.served_together import scripts, style_sheets

register = template.Library()
FILTERS = (
    formats.money,
    formats.whole,
    formats.short,
    formats.hundredths,
    formats.percent,
    formats.score,
    formats.points,
    formats.bare,
    formats.times,
    formats.days,
    formats.age,
    formats.count,
    formats.signed_short,
    formats.signed_percent,
    formats.day,
    formats.iso_day,
    formats.moment,
    formats.money_input,
    formats.quantity,
    formats.as_words,
    formats.plural,
)
for write in FILTERS:
    register.filter(write)
TAGS = (formats.currency_sign, formats.decimal_sign, formats.day_order, formats.plan_value)
for tag in (*TAGS, style_sheets, scripts):
    register.simple_tag(tag)


@register.filter
def at(items: Sequence[Any], index: int) -> Any:
    """The item at a place of a list."""
    return items[index]
