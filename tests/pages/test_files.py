"""The files of a page hold what it shows."""

import re
from html.parser import HTMLParser

import pytest

pytestmark = pytest.mark.django_db


class Tables(HTMLParser):
    """The tables of a page, each a list of rows of cell texts."""

    def __init__(self):
        super().__init__()
        self.tables, self.sums, self.cell = [], [], None

    def handle_starttag(self, tag, attrs):
        """Open a table, a row or a cell."""
        if tag == "table":
            self.tables.append([])
        elif tag == "tr":
            self.tables[-1].append([])
            self.sums += [self.tables[-1][-1]] if "fell" in (dict(attrs).get("class") or "") else []
        elif tag in ("td", "th"):
            self.cell = ""

    def take_text(self, text):
        """Text inside a cell."""
        if self.cell is not None:
            self.cell += text

    handle_data = take_text

    def handle_endtag(self, tag):
        """Close a cell."""
        if tag in ("td", "th"):
            self.tables[-1][-1].append(self.cell.strip())
            self.cell = None


@pytest.mark.parametrize(
    ("page", "table", "nth"),
    [
        ("/conversion/?by=source", "/conversion/table.json?by=source&table=rows", 1),
        ("/conversion/?measure=value", "/conversion/table.json?measure=value&table=exits", 1),
        ("/conversion/time/?by=company", "/conversion/time/table.json?", 0),
        ("/conversion/time/?by=person&per=deal", "/conversion/time/table.json?by=person&per=deal&table=won", -4),
        ("/conversion/time/", "/conversion/time/table.json?table=months", -3),
        ("/conversion/probability-check/", "/conversion/probability-check/table.json?", 0),
        ("/conversion/probability-check/?backtest=yes", "/conversion/probability-check/table.json?table=guesses", 1),
        ("/conversion/probability-check/?backtest=yes", "/conversion/probability-check/table.json?table=scores", 2),
        ("/conversion/loss-reasons/?by=person", "/conversion/loss-reasons/table.json?by=person", 0),
        (
            "/conversion/loss-reasons/?by=month&measure=value",
            "/conversion/loss-reasons/table.json?by=month&measure=value&table=reasons",
            1,
        ),
        ("/forecast/submitted/", "/forecast/submitted/table.json?", 0),
        ("/customers/account/ac001/", "/customers/account/ac001/table.json?", 0),
        ("/customers/account/ac001/", "/customers/account/ac001/table.json?table=past", 3),
        ("/customers/account/ac001/", "/customers/account/ac001/table.json?table=ageing", 4),
        ("/forecast/submitted/", "/forecast/submitted/table.json?table=history", 2),
    ],
)
def test_a_file_holds_the_rows_that_its_page_shows(page, table, nth, demo, sign_in):
    """Row by row, by name; and every whole number of the page is in the file, rates and days but for their rounding."""
    client = sign_in("m1")
    parser = Tables()
    parser.feed(client.get(f"{page}{'&' if '?' in page else '?'}period=FY2027-Q3").content.decode())
    shown = [row for row in parser.tables[nth][1:] if len(row) > 1 and not any(row is one for one in parser.sums)]
    kept = client.get(f"{table}&period=FY2027-Q3").json()
    assert [row[0] for row in shown] == [str(row[0]) for row in kept["rows"] if any(row[1:])]
    for cells, row in zip(shown, (row for row in kept["rows"] if any(row[1:])), strict=True):
        numbers = [
            float(re.sub(r"[^\d.]", "", str(value))) for value in row[1:] if re.fullmatch(r"-?[\d.]+", str(value))
        ]
        for text in cells[1:]:
            if re.fullmatch(r"[\d\u00a0]+", text):
                whole = float(text.replace("\u00a0", ""))
                assert any(abs(number - whole) <= 1 for number in numbers) or whole == 0, (cells, row)
    assert client.get(f"{table.split('?')[0]}?table=hope").status_code == 404


def test_sales_and_audit_are_files_too(demo, sign_in):
    """Sales with their sums by group, and each entry of the audit whole."""
    client = sign_in("a1")
    sales = client.get("/customers/account/ac001/table.json?month=FY2027-M07&table=sales").json()["rows"]
    shown = client.get("/customers/account/ac001/?month=FY2027-M07").context["sales"]
    assert [row[:2] for row in sales] == [[row.product_group, row.product] for row in shown] != []
    for group, product, this, before, change in sales:
        assert float(change) == pytest.approx(float(this) - float(before)), (group, product)
    client.post("/setup/organisation/", {"name": "Ferrow"})
    entries = client.get("/setup/audit/").context["entries"]
    kept = client.get("/setup/audit/table.json").json()["rows"]
    assert len(kept) == entries.paginator.count
    assert [row[2:4] for row in kept[: len(entries)]] == [[entry.action, entry.detail] for entry in entries]
    some = client.get("/setup/audit/table.json?find=stage").json()["rows"]
    assert len(some) < len(kept) or not kept
