"""The files of a page hold what it shows."""

import re
from html.parser import HTMLParser

import pytest

pytestmark = pytest.mark.django_db


class Tables(HTMLParser):
    """The tables of a page, each a list of rows of cell texts."""

    def __init__(self):
        super().__init__()
        self.tables, self.cell = [], None

    def handle_starttag(self, tag, attrs):
        """Open a table, a row or a cell."""
        if tag == "table":
            self.tables.append([])
        elif tag == "tr":
            self.tables[-1].append([])
        elif tag in ("td", "th"):
            self.cell = ""

    def handle_data(self, data):
        """Text inside a cell."""
        if self.cell is not None:
            self.cell += data

    def handle_endtag(self, tag):
        """Close a cell."""
        if tag in ("td", "th"):
            self.tables[-1][-1].append(self.cell.strip())
            self.cell = None


@pytest.mark.parametrize(
    ("page", "table", "nth"),
    [
        ("/conversion/?by=source", "/conversion/table.json?by=source&table=rows", 0),
        ("/conversion/time/?by=company", "/conversion/time/table.json?", 0),
        ("/conversion/time/?by=person&per=deal", "/conversion/time/table.json?by=person&per=deal&table=won", -4),
        ("/conversion/time/", "/conversion/time/table.json?table=months", -3),
        ("/conversion/set-and-seen/", "/conversion/set-and-seen/table.json?", 0),
        ("/conversion/set-and-seen/?backtest=yes", "/conversion/set-and-seen/table.json?table=guesses", 1),
        ("/conversion/set-and-seen/?backtest=yes", "/conversion/set-and-seen/table.json?table=scores", 2),
        ("/conversion/lost/?by=person", "/conversion/lost/table.json?by=person", 0),
        (
            "/conversion/lost/?by=month&measure=value",
            "/conversion/lost/table.json?by=month&measure=value&table=reasons",
            1,
        ),
        ("/forecast/calls/", "/forecast/calls/table.json?", 0),
        ("/forecast/calls/", "/forecast/calls/table.json?table=history", 1),
    ],
)
def test_a_file_holds_the_rows_that_its_page_shows(page, table, nth, demo, sign_in):
    """Row by row, by name; and every whole number of the page is in the file, rates and days but for their rounding."""
    client = sign_in("m1")
    parser = Tables()
    parser.feed(client.get(f"{page}{'&' if '?' in page else '?'}period=FY2027-Q3").content.decode())
    shown = [row for row in parser.tables[nth][1:] if len(row) > 1]
    kept = client.get(f"{table}&period=FY2027-Q3").json()
    assert [row[0] for row in shown] == [str(row[0]) for row in kept["rows"] if any(row[1:])]
    for cells, row in zip(shown, (row for row in kept["rows"] if any(row[1:])), strict=True):
        numbers = [
            float(re.sub(r"[^\d.]", "", str(value))) for value in row[1:] if re.fullmatch(r"-?[\d.]+", str(value))
        ]
        for text in cells[1:]:
            if re.fullmatch(r"[\d\u202f]+", text):
                whole = float(text.replace("\u202f", ""))
                assert any(abs(number - whole) <= 1 for number in numbers) or whole == 0, (cells, row)
    assert client.get(f"{table.split('?')[0]}?table=hope").status_code == 404
