"""Answers on the pages: each figure of a sentence is the one that the working it opens comes to."""

import re
from html import unescape
from itertools import product

PAGES = (
    "/forecast/", "/forecast/trend/", "/forecast/outlook/", "/forecast/changed/", "/forecast/submitted/", "/conversion/",
    "/conversion/loss-reasons/", "/conversion/lead-conversion/", "/attainment/", "/attainment/year-progress/",
    "/attainment/period-comparison/", "/attainment/cash/", "/team/", "/team/this-week/", "/deals/",
)  # fmt: skip
SCOPES = ("", "?who=person:r13", "?period=FY2027-Q2")
SIZES = {"k": 1_000, "m": 1_000_000}


def number(text):
    """What a written figure comes to without its sign, and half of the last digit shown: 1.24 m, 52 %, 1 574 275.00, 146 deals."""
    found = re.search(r"([\d\u00a0 ]*\d)(\.\d+)?(?:[\u00a0 ]?([km])\b)?", text)
    size = SIZES.get(found[3], 1)
    value = float(re.sub(r"[\u00a0 ]", "", found[1]) + (found[2] or "")) * size
    return value, 0.5001 * size / 10 ** (len(found[2] or ".") - 1)


def said(client, address):
    """The figures of a page's sentence with the workings they open."""
    heading = re.search(r"<h1[^>]*>(.*?)</h1>", client.get(address).content.decode(), re.DOTALL)[1]
    links = re.findall(r'<a class="open-figure" href="([^"]+)"[^>]*>(.*?)</a>', heading)
    return [(unescape(href), unescape(text)) for href, text in links]


def test_a_figure_of_a_sentence_is_that_of_its_working(demo, sign_in):
    client, wrong, seen = sign_in("m1"), [], set()
    for page, scope in product(PAGES, SCOPES):
        for href, text in said(client, page + scope):
            panel = client.get(href).context["panel"]
            # Of the stage that loses most the number is the sum, the amount one of its terms.
            figures = [panel.total, *(term.value for term in panel.terms)] if page == "/conversion/" else [panel.total]
            shown, close = number(text)
            seen.add(page)
            if not any(abs(number(one)[0] - shown) <= close for one in figures):
                wrong.append((page + scope, href, text, figures))
    assert not wrong
    assert seen == set(PAGES)
