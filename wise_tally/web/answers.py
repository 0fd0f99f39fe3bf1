"""A computed sentence as a page shows it: its figures in the page's form, each a link to its working."""

from collections.abc import Callable, Mapping

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
}


def _words(part: Part) -> str:
    if part.noun:
        return formats.plural(int(part.value), part.noun)
    return SHAPES[part.kind](part.value)


def say(answer: Answer, opens: Mapping[str, str]) -> SafeString:
    """The sentence as HTML; `opens` gives the address of the working of each figure that has one, by its key.

    A deal’s own page is no working: its address comes under “deal” and opens as a page.
    """
    shown = {}
    for place, part in answer.parts.items():
        where, words = opens.get(part.figure), _words(part)
        if not where:
            shown[place] = format_html("{}", words)
        elif part.figure == "deal":
            shown[place] = format_html('<a class="open-page" href="{}">{}</a>', where, words)
        else:
            shown[place] = format_html('<a class="open-figure" href="{}" x-target="working">{}</a>', where, words)
    return format_html(answer.sentence, **shown) if shown else escape(answer.sentence)


def span_of(line: FilterLine) -> Span:
    """The filter line's period as a sentence speaks of it, with the days left after the as-of day."""
    return Span.of(line.period, DaysOf.at(line.period, line.as_of).remaining)


def workings(address: str, query: str, *figures: str) -> dict[str, str]:
    """The addresses of the workings of figures: `address` names the page's pattern, which takes the figure."""
    return {figure: f"{reverse(address, args=[figure])}?{query}" for figure in figures}


def plain(answer: Answer) -> str:
    """The sentence as text without links."""
    return answer.sentence.format(**{place: _words(part) for place, part in answer.parts.items()})
