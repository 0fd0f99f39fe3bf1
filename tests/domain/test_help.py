"""Help of the pages: each page of the navigation has one, short enough to be read, and the guide says the same."""

import sys
from html import unescape
from pathlib import Path

from django.urls import get_resolver

from tests.pages.test_permissions import names
from wise_tally.web.help import page_help, pages
from wise_tally.web.tabs import PAGES

ROOT = Path(__file__).resolve().parents[2]
OTHERS = {"today:today", "deals:page", "deals:deal", "customers:accounts", "customers:leads", "setup:page"}


def test_each_page_of_the_navigation_has_help_and_help_belongs_to_a_page():
    named = {name for page in pages() for name in page.names}
    tabs = {name for place in PAGES.values() for name, *_ in place}
    assert tabs | OTHERS <= named <= set(names(get_resolver().url_patterns))
    assert page_help("forecast:accuracy").title == "Forecast accuracy"
    assert page_help("api:deals") is None


def test_help_is_read_at_a_glance():
    """A line of at most twelve words, three sentences, one thing to do, and words that a sentence explains."""
    for page in pages():
        assert len(page.line.split()) <= 12, page.line
        assert len(page.read) == (5 if page.title == "Outlook" else 3)
        assert all(text.endswith(".") for text in page.read)
        assert all(len(meaning.split()) <= 20 for _, meaning in page.words)
        assert not page.picture or (ROOT / "docs" / "screenshots" / page.picture).exists(), page.picture


def test_the_guide_says_what_the_pages_say():
    """Renewed by tools/guide_page.py."""
    sys.path.insert(0, str(ROOT / "tools"))
    from guide_page import GUIDE, guide_text

    assert GUIDE.read_text(encoding="utf-8") == guide_text()


def test_help_stands_on_the_page(demo, sign_in):
    html = sign_in("m1").get("/conversion/time/").content.decode()
    assert html.count(page_help("conversion:time").line) == 1, "in the dialog: under the tabs stands the answer"
    plain = unescape(sign_in("m1").get("/forecast/what-if/").content.decode())
    assert plain.count(page_help("forecast:what-if").line) == 2, "without an answer also under the tabs"
    assert "What to do:" in html
    assert "What to do:" not in sign_in("m1").get("/password/").content.decode()
