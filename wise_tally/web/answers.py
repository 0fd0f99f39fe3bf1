"""A computed sentence as a page shows it: its figures in the page's form, each a link to its working."""

from collections.abc import Callable, Mapping
from datetime import date

from django.urls import reverse
from django.utils.html import escape, format_html
from django.utils.safestring import SafeString

from wise_tally.core.answers.answer import Answer, Part, Span
from wise_tally.core.attainment import DaysOf
from wise_tally.domain import formats
from wise_tally.web.filter_line import FilterLine

SHAPES: dict[str, Callable[..., str]] = {
    "money": formats.short,
    "points": formats.signed_short,
    "rate": lambda rate: formats.percent(rate, 0),
    "days": formats.days,
    "times": formats.hundredths,
    "number": formats.count,
    "name": str,
    "day": lambda ordinal: formats.day(date.fromordinal(ordinal)),
}
NAMED = ("name", "deal", "customer")
# Names of deals (by index into the book) and customers (by row number), by the kind of their parts.
Names = Mapping[tuple[str, int], str]


class PageAddress(str):
    """The address of a page, which is no working."""

    __slots__ = ()


def words_of(part: Part, names: Names | None = None) -> str:
    """A part of a sentence as text."""
    if part.noun:
        return formats.plural(int(part.value), part.noun)
    if part.kind in ("deal", "customer"):
        return (names or {}).get((part.kind, int(part.value)), "")
    return SHAPES[part.kind](part.value)


def answer_sentence(answer: Answer, opens: Mapping[str, str], names: Names | None = None) -> SafeString:
    """The sentence as HTML; `opens` gives the address of the working of each figure that has one, by its key.

    A deal’s own page is no working: its address comes under “deal” and opens as a page, like every PageAddress.
    """
    shown = {}
    for name, part in answer.parts.items():
        where, words = opens.get(part.figure), words_of(part, names)
        if not where:
            shown[name] = format_html("{}", words)
        elif part.figure == "deal" or isinstance(where, PageAddress):
            css = "open-page" if part.kind in NAMED else "open-page number"
            shown[name] = format_html('<a class="{}" href="{}">{}</a>', css, where, words)
        else:
            shown[name] = format_html('<a class="open-figure" href="{}" x-target="working">{}</a>', where, words)
    return format_html(answer.sentence, **shown) if shown else escape(answer.sentence)


def span_of(line: FilterLine) -> Span:
    """The filter line's period as a sentence speaks of it, with the days left after the as-of day."""
    return Span.of(line.period, DaysOf.at(line.period, line.as_of).remaining)


def workings(address: str, query: str, *figures: str) -> dict[str, str]:
    """The addresses of the workings of figures: `address` names the page's pattern, which takes the figure."""
    return {figure: f"{reverse(address, args=[figure])}?{query}" for figure in figures}


def plain(answer: Answer, names: Names | None = None) -> str:
    """The sentence as text without links."""
    return answer.sentence.format(**{name: words_of(part, names) for name, part in answer.parts.items()})
