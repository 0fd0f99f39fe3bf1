"""The parts that pages are made of, shown with their markup: for newcomers, and to look at; only where the demo runs."""

from dataclasses import dataclass
from types import SimpleNamespace
from typing import Any

from django.conf import settings
from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.template.loader import get_template, render_to_string
from django.views.decorators.http import require_safe

from wise_tally.web.charts import Chart, Layer, Mark, Point, money_marks
from wise_tally.web.filter_line import FilterLine, read_scope
from wise_tally.web.footer import Footer
from wise_tally.web.page_query import Link
from wise_tally.web.request.viewing import PageRequest
from wise_tally.web.tabs import tabs_of

MONTHS = ("Apr", "May", "Jun", "Jul", "Aug", "Sep")
WON, PLANNED = (12_000_000, 31_000_000, 44_000_000, 71_000_000, None, None), (15, 30, 45, 60, 80, 100)

EMPTY = {
    "title": "No forecast submitted for this quarter yet",
    "words": "A submitted forecast says what the quarter will bring. It is shown next to the rep’s own, and both are saved.",
    "address": "?submit=yes",
    "link_words": "Submit a forecast",
}


@dataclass(frozen=True)
class Shown:
    """A part drawn, and the template it comes from; its comment says what it takes."""

    name: str
    template: str
    html: str
    source: str


def _links(*words: str) -> list[Link]:
    return [Link(one, "", index == 0) for index, one in enumerate(words)]


def _chart() -> Chart:
    goal = [share * 1_000_000 for share in PLANNED]
    return Chart(
        key="example",
        conclusion="Won by month against quota",
        points=[Point(month, [("won", str(value or "–"))]) for month, value in zip(MONTHS, WON, strict=True)],
        layers=[Layer("area", "won", WON), Layer("line", "goal", goal, label="quota")],
        y_words=money_marks(100_000_000),
        x_words=list(enumerate(MONTHS)),
        marks=[Mark("now", "today", at=3)],
        edges=True,
        height=190,
    )


def _parts(line: FilterLine) -> list[tuple[str, str, dict[str, Any]]]:
    """Name, template and what it is given here."""
    figures = [
        SimpleNamespace(name="Won", text="989 k", working="", than="31 k behind pace", up=False, history=[1, 3, 4, 9]),
        SimpleNamespace(
            name="Weighted forecast",
            text="1.57 m",
            working="",
            than="132 k in the last 7 days",
            up=True,
            history=[4, 3, 6],
        ),
        SimpleNamespace(name="Not enough deals", text="–", working="", than="3 deals; from 20 on", up=None, history=[]),
    ]
    return [
        (
            "Answer",
            "web/parts/answer_sentence.html",
            {"title": "Forecast", "answer_sentence": "Forecast 19 k short of quota; 560 k is still open."},
        ),
        ("Answer without figures: the page’s name", "web/parts/answer_sentence.html", {"title": "What if"}),
        ("Headline figures", "web/parts/headlines.html", {"headlines": figures}),
        ("Up to five choices", "web/parts/options.html", {"label": "Show", "links": _links("number", "amount")}),
        (
            "More choices",
            "web/parts/options.html",
            {"label": "By", "links": _links("team", "rep", "territory", "source", "partner", "campaign")},
        ),
        ("Buttons, fields and chips", "web/parts/basics.html", {}),
        ("Cell edited in its row, in each state", "web/parts/cells.html", {}),
        ("Table with folded rows, flags and total", "web/parts/table.html", {}),
        (
            "Pages of a table",
            "web/pages.html",
            {"page": SimpleNamespace(number=2, pages=7), "before": "p=1", "after": "p=3"},
        ),
        ("Key of the inks", "web/legend.html", {}),
        (
            "Picture",
            "web/parts/picture.html",
            {"chart": _chart(), "title": "Won and quota", "note": "€", "as_table": "web/parts/example_table.html"},
        ),
        ("Figure and its working", "web/parts/figure.html", {"line": line}),
        ("Messages", "web/parts/messages.html", {}),
        ("Dialog: says what will happen, asks for what is missing; Esc closes it", "web/parts/dialog.html", {}),
        ("Nothing yet: what belongs here, and the next step", "web/parts/empty.html", EMPTY),
    ]


@require_safe
def page(request: PageRequest) -> HttpResponse:
    """Every part, drawn and as its template is written."""
    if not settings.DEMO:
        raise Http404
    line = read_scope(request)
    shown = []
    for name, template, given in _parts(line):
        source = get_template(template).template.source  # type: ignore[attr-defined]
        shown.append(Shown(name, template, render_to_string(template, given, request), source))
    tabs = tabs_of(
        line, (("parts", "Parts", ""), ("today:today", "Start page", ""), ("forecast:page", "Forecast", "")), "parts"
    )
    footer = Footer(36, 1_765, undated=4_085_000, undated_deals=2, overdue=5_285_000)
    return render(
        request,
        "web/parts_page.html",
        {"parts": shown, "tabs": tabs, "footer": footer},
    )
