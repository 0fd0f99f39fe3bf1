"""Imports: tables from elsewhere with other headings and forms; faults by row; the same file twice; undo of the whole."""

import csv
import io
from datetime import date, datetime

import pytest
import xlsxwriter
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.conftest import NOW
from tests.support.answers import text
from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.models import Account, Deal, DealRevision, Lead, OwnField, Product
from wise_tally.domain.deals.own_fields import own_shown
from wise_tally.domain.imports.models import ImportRun
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.models import Person
from wise_tally.package.tables import TABLES
from wise_tally.package.writing import write_package
from wise_tally.pages.setup.imports.run import carry_out

pytestmark = pytest.mark.django_db
AS_OF = "2026-11-23"


def as_csv(rows, delimiter=","):
    out = io.StringIO()
    csv.writer(out, delimiter=delimiter).writerows(rows)
    return out.getvalue()


def send(client, kind, content, **typed):
    """Send a file, match as guessed but for what is typed, take it in; the answer of the last step."""
    file = SimpleUploadedFile(f"{kind}.csv", content.encode() if isinstance(content, str) else content)
    answer = client.post("/setup/imports/", {"kind": kind, "file": file}, follow=True)
    assert answer.status_code == 200, text(answer)
    matching = answer.context["matching"]
    posted = {f"c:{name}": heading for name, heading in matching.columns.items()}
    posted |= {
        "dates": matching.dates,
        "numbers": matching.numbers,
        "process": matching.process,
        "make_accounts": "on",
        "take": "yes",
    }
    return client.post(answer.redirect_chain[-1][0], posted | typed, follow=True)


@pytest.fixture
def admin(client, tmp_path, settings):
    """A small workspace with an administrator signed in."""
    from django.contrib.auth.models import User

    settings.WORK_FOLDER = tmp_path
    World().read(tmp_path)
    user = User.objects.create(username="boss")
    Person.objects.create(key="boss", name="Boss", role="admin", email="boss@firm.example", user=user)
    client.force_login(user)
    return client


def everything(folder):
    """The whole workspace as bytes."""
    write_package(folder, NOW)
    return {name: (folder / table.path).read_bytes() for name, table in TABLES.items()}


DEALS = [
    ["Deal", "Customer", "Rep", "Phase", "Total", "Close date", "Opened"],
    ["Buoy for the dam", "Port of Ester", "A", "s2", "1.250,50", "05/12/2026", "01/10/2026"],
    ["Four stations", "Lake Trust", "a", "S1", "12.000", "06/12/2026", "02.10.2026"],
    ["Renewed", "Port of Ester", "B", "w", "700", "03/11/2026", "01/09/2026"],
]
FORMS = {"dates": "dmy", "numbers": "point"}


def test_a_foreign_table_comes_in_twice_without_change_and_is_undone(admin, tmp_path):
    before = everything(tmp_path / "before")
    page = text(send(admin, "deals", as_csv(DEALS, ";"), **FORMS))
    assert "2 rows of accounts, 3 rows of deals" in page
    row = ask("forecast", "FY2027", AS_OF)[""]
    assert (row["open"], row["won"]) == ("13250.50", "700.00")
    won = books.current().as_of(date(2026, 11, 23))
    assert won.closed_on.max() == date(2026, 11, 3).toordinal()
    assert Deal.objects.filter(short_form=True).count() == 3
    assert ask("conversion", "FY2027", AS_OF)["scope"]["without_history"] == 3
    after = everything(tmp_path / "after")
    again = text(send(admin, "deals", as_csv(DEALS, ";")))
    assert "All data was already there." in again, "the matching of the same headings is remembered"
    assert everything(tmp_path / "again") == after
    changed = [DEALS[0], [*DEALS[1][:4], "2.000", *DEALS[1][5:]]]
    send(admin, "deals", as_csv(changed, ";"))
    assert ask("forecast", "FY2027", AS_OF)[""]["open"] == "14000.00"
    runs = ImportRun.objects.order_by("-pk")
    refused = admin.post(f"/setup/imports/{runs.last().pk}/change/", {"what": "undo"})
    assert refused.status_code == 409
    assert "changed" in text(refused)
    for run in runs:
        assert admin.post(f"/setup/imports/{run.pk}/change/", {"what": "undo"}).status_code == 302
    assert everything(tmp_path / "undone") == before
    assert ask("forecast", "FY2027", AS_OF)[""]["open"] == "0.00"


FAULTY = [
    ("Total", "1,5x", "another currency or unit"),
    ("Total", "-5", "is below 0"),
    ("Total", "1,505", "decimals"),
    ("Close date", "31/02/2026", "not a date of the chosen form"),
    ("Rep", "Nobody", "“Nobody” is not there"),
    ("Phase", "q9", "“q9” is not there"),
    ("Deal", "", "the needed cell is empty"),
]


def test_every_fault_is_named_by_row_and_the_rows_to_mend_come_back(admin):
    rows = [DEALS[0], DEALS[1]]
    for heading, typed, _ in FAULTY:
        row = list(DEALS[2])
        row[0] = f"{heading} {typed}"
        row[DEALS[0].index(heading)] = typed
        rows.append(row)
    page = text(send(admin, "deals", as_csv(rows, ";"), **FORMS))
    assert not Deal.objects.exists()
    assert not Account.objects.exists()
    run = ImportRun.objects.get()
    assert run.report["count"] == len(FAULTY)
    for number, (heading, _, says) in enumerate(FAULTY, 3):
        assert any(f[0] == number and f[1] == heading and says in f[2] for f in run.report["faults"]), (
            number,
            run.report,
        )
    assert "Nothing was imported: 7 errors" in page
    mend = list(csv.reader(io.StringIO(text(admin.get(f"/setup/imports/{run.pk}/rows-to-mend.csv")))))
    assert mend[0] == [*DEALS[0], "what is wrong"]
    assert [row[:-1] for row in mend[1:]] == rows[2:]
    answer = send(admin, "deals", as_csv(rows, ";"), good_rows_only="on", **FORMS)
    assert "7 rows had errors and were skipped" in text(answer)
    assert list(Deal.objects.values_list("name", flat=True)) == ["Buoy for the dam"]


@pytest.mark.parametrize(
    ("kind", "table", "check"),
    [
        ("people", [["Name", "E-mail", "Department"], ["Una", "una@x.example", "t1"]], {"email": "una@x.example"}),
        ("accounts", [["Company", "Country"], ["Harbour Board", "IE"]], {"country": "IE"}),
        ("products", [["Product", "Price", "product group"], ["Gauge", "99.50", "g"]], {"unit_price_minor": 9950}),
        ("activities", [["Kind", "When", "Rep", "Subject"], ["Site visit", "2026-11-01", "A", "saw"]], {"kind": "site_visit"}),
        ("leads", [["Name", "Source"], ["Quay", "fair"]], {"source": "fair"}),
        ("invoices", [["Customer", "Issued", "Amount"], ["Dock", "2026-01-02", "-5.00"]], {"amount_minor": -500}),
        ("orders", [["Customer", "Ordered", "Amount"], ["Dock", "2026-01-02", "5"]], {"amount_minor": 500}),
        ("quotas", [["Subject", "Node", "Month", "Target"], ["person", "A", "2027-01-01", "900"]], {"value": 90000}),
    ],
)  # fmt: skip
def test_every_kind_comes_in_by_other_headings(admin, kind, table, check):
    typed = {"c:subject_id": "Node"} if kind == "quotas" else {}
    for _ in range(2):
        page = text(send(admin, kind, as_csv(table), **typed))
        assert "Imported." in page, page
    record = TABLES[kind].model.objects.filter(**check)
    assert record.count() == 1, list(TABLES[kind].model.objects.values())


def test_an_import_that_was_interrupted_says_so_and_starts_again(admin):
    answer = admin.post(
        "/setup/imports/", {"kind": "deals", "file": SimpleUploadedFile("d.csv", as_csv(DEALS, ";").encode())}
    )
    run = ImportRun.objects.get()
    ImportRun.objects.update(status="running")
    page = admin.get(answer.url)
    assert "This import was interrupted. Nothing was saved; you can start again." in text(page)
    assert "These required fields have no column:" in text(admin.post(answer.url, {"take": "yes"}))
    ImportRun.objects.update(matching={"columns": page.context["matching"].columns, "process": "p", **FORMS})
    run.refresh_from_db()
    carry_out(run, viewer_of(Person.objects.get(key="boss")), NOW)
    assert DealRevision.objects.count() == 3
    assert ImportRun.objects.get().status == "done"


def test_what_is_no_table_and_unknown_kinds_are_refused(admin):
    file = SimpleUploadedFile("x.csv", b"a,b\n1,2\n")
    assert "cannot be imported" in text(admin.post("/setup/imports/", {"kind": "moons", "file": file}))
    assert "Choose a CSV or XLSX file." in text(admin.post("/setup/imports/", {"kind": "deals"}))
    big = SimpleUploadedFile("x.csv", b"a")
    big.size = 60_000_000
    from wise_tally.web.files.uploads import UploadRefused, read_upload

    with pytest.raises(UploadRefused, match="60 MB"):
        read_upload(big)
    assert (
        admin.post(
            "/setup/imports/", {"kind": "deals", "file": SimpleUploadedFile("x.csv", b"\xe9t\xe9\n1")}
        ).status_code
        == 302
    )
    assert "read as Windows-1252" in text(admin.get(f"/setup/imports/{ImportRun.objects.get().pk}/"))


def test_lines_above_the_headings_are_left_out_and_the_form_is_guessed_from_every_row(admin):
    """Titles fill one cell; the row that tells days from months may be the last."""
    rows = [["Pipeline of the north"], [""], ["as of November"], *DEALS[:1]]
    close, total = DEALS[0].index("Close date"), DEALS[0].index("Total")
    for number in range(250):
        row = [*DEALS[1]]
        row[0], row[close], row[total] = f"Deal {number}", "01/02/2027", "€1,250"
        rows.append(row)
    rows[-1][close], rows[-1][total] = "25/02/2027", "1,250.50"
    upload = SimpleUploadedFile("deals.csv", as_csv(rows).encode())
    page = admin.post("/setup/imports/", {"kind": "deals", "file": upload}, follow=True)
    assert "lines above the headings left out" in text(page)
    assert (page.context["matching"].dates, page.context["matching"].numbers) == ("dmy", "comma")


def previewed(admin, rows, show="", kind="deals", **typed):
    """The preview of a file as the page holds it, and the page."""
    file = SimpleUploadedFile(f"{kind}.csv", as_csv(rows, ";").encode())
    answer = admin.post("/setup/imports/", {"kind": kind, "file": file}, follow=True)
    matching = answer.context["matching"]
    posted = {f"c:{name}": heading for name, heading in matching.columns.items()}
    posted |= {"process": matching.process, "make_accounts": "on", "show": show} | FORMS | typed
    page = admin.post(answer.redirect_chain[-1][0], posted)
    return page.context["preview"], text(page)


def test_the_preview_tells_what_each_row_will_do_and_keeps_nothing(admin, tmp_path):
    before = everything(tmp_path)
    preview, page = previewed(admin, DEALS)
    assert [choice[:3] for choice in preview.choices] == [("new", "new", 3)]
    assert preview.accounts == 2
    assert "2 accounts will be created" in page
    assert preview.examples == {
        "dates": ["05/12/2026 → 5 Dec 2026", "06/12/2026 → 6 Dec 2026", "03/11/2026 → 3 Nov 2026"],
        "numbers": ["1.250,50 → 1\xa0250.50", "12.000 → 12\xa0000.00", "700 → 700.00"],
    }
    assert everything(tmp_path) == before
    send(admin, "deals", as_csv(DEALS, ";"), **FORMS)
    assert [choice[:3] for choice in previewed(admin, DEALS)[0].choices] == [("unchanged", "unchanged", 3)]
    later = [list(row) for row in DEALS]
    later[1][3:6] = ["s1", "9,5", "07/12/2026"]
    later.append(["Fifth", "Lake Trust", "A", "s1", "1", "05/12/2026", "01/10/2026"])
    preview, _ = previewed(admin, later)
    assert [row.does for row in preview.rows] == [
        "changes stage, amount, expected close",
        "unchanged",
        "unchanged",
        "new",
    ]
    assert [row.number for row in previewed(admin, later, "new")[0].rows] == [5]
    send(admin, "deals", as_csv(later, ";"), **FORMS)
    assert [choice[0] for choice in previewed(admin, later)[0].choices] == ["unchanged"]


def test_faults_are_counted_by_kind_before_anything_is_imported(admin):
    rows = [[*row, note] for row, note in zip(DEALS, ("Remark", "a", "b", "c"), strict=True)]
    rows += [["Sixth", "Port of Ester", "A", "s1", wrong, "05/12/2026", "01/10/2026", ""] for wrong in ("x1", "x2")]
    rows += [["Seventh", "Port of Ester", "A", "s1", "1,2345", "05/12/2026", "01/10/2026", ""]]
    preview, page = previewed(admin, rows)
    assert [choice[:3] for choice in preview.choices] == [("new", "new", 3), ("errors", "with errors", 3)]
    assert [(fault.column, fault.rows) for fault in preview.faults] == [("Total", "5, 6"), ("Total", "7")]
    assert preview.left_out == ["Remark"]
    assert "While there are errors nothing is imported" in page
    assert "Rows with errors will be skipped" in previewed(admin, rows, good_rows_only="on")[1]
    assert [row.number for row in previewed(admin, rows, "errors")[0].rows] == [5, 6, 7]
    assert not Deal.objects.exists()


def test_telephone_mail_and_own_fields_of_leads_come_in_and_are_undone(admin, tmp_path):
    OwnField.objects.create(key="basin", applies_to="lead", name="Basin", kind="choice", choices="upper;lower")
    OwnField.objects.create(key="depth", applies_to="lead", name="Depth in m", kind="number")
    OwnField.objects.create(key="old", applies_to="lead", name="Old", kind="text", retired=True)
    before = everything(tmp_path)
    rows = [["Lead", "Company", "E-mail", "Telephone", "Basin", "Depth in m", "Old"],
            ["Ada", "Weir Ltd", "ada@weir.example", "0123 4567", "upper", "1,5", "x"],
            ["Ben", "", "ben@lake.example", "", "", "", ""]]  # fmt: skip
    preview, _ = previewed(admin, rows, kind="leads")
    assert [choice[:3] for choice in preview.choices] == [("new", "new", 2)]
    assert preview.left_out == ["Old"]
    send(admin, "leads", as_csv(rows, ";"), numbers="point")
    ada = Lead.objects.get(name="Ada")
    assert (ada.customer, ada.email, ada.phone) == ("Weir Ltd", "ada@weir.example", "0123 4567")
    assert dict(own_shown("lead", ada.key)) == {"Basin": "upper", "Depth in m": "1.5"}
    rows[1][3:5] = ["0999", "lower"]
    rows[2][4] = "middle"
    preview, _ = previewed(admin, rows, kind="leads", numbers="point")
    assert preview.rows[0].does == "changes phone, Basin"
    assert preview.rows[1].does == "Basin: “middle” is not a choice"
    assert [fault.right for fault in preview.faults] == ["one of upper / lower"]
    admin.post(f"/setup/imports/{ImportRun.objects.order_by('pk').first().pk + 1}/change/", {"what": "undo"})
    assert everything(tmp_path) == before


def test_lines_payments_and_credit_of_deals_come_in_by_name(demo, client, sign_in, tmp_path, settings):
    """A deal's rows replace those it had, an amount made of lines follows; twice changes nothing; undone as it was."""
    settings.WORK_FOLDER = tmp_path
    client, name = sign_in("a1"), Deal.objects.get(key="d9001").name
    product = Product.objects.get(key="calibration").name

    def state():
        deal = Deal.objects.get(key="d9001")
        return (last_revision(deal).amount_minor,
                list(deal.lines.values_list("product__key", "quantity_10000ths").order_by("pk")),
                list(deal.payments.values_list("due_on", "amount_minor")),
                list(deal.credits.values_list("person__key", "share_bp")))  # fmt: skip

    before = state()
    Deal.objects.filter(key="d9001").update(amount_from_lines=True)
    lines = as_csv(
        [["Deal", "Product", "Pieces", "Price"], [name, product, "2", "1 500.50"], [name, product, "0.5", "100"]]
    )
    done = send(client, "deal_lines", lines)
    assert "import is done" in text(done).lower() or "rows" in text(done)
    assert state()[:2] == (305_100, [("calibration", 20_000), ("calibration", 5_000)])
    runs = ImportRun.objects.count()
    file = SimpleUploadedFile("again.csv", lines.encode())
    shown = client.post("/setup/imports/", {"kind": "deal_lines", "file": file}, follow=True).context["preview"]
    assert {key: count for key, _, count, _ in shown.choices}["unchanged"] == 2
    assert ImportRun.objects.count() == runs + 1
    send(client, "payments", as_csv([["Deal", "Due", "Amount"], [name, "2027-02-01", "9"], [name, "2027-03-01", "8"]]))
    assert state()[2] == [(date(2027, 2, 1), 900), (date(2027, 3, 1), 800)]
    send(
        client,
        "deal_credits",
        as_csv([["Deal", "Person", "Share"], [name, "Iva Marrin", "40"], [name, "Joss Merrow", "60"]]),
    )
    assert sorted(state()[3]) == [("r01", 4_000), ("r08", 6_000)]
    wrong = send(client, "deal_credits", as_csv([["Deal", "Person", "Share"], [name, "Iva Marrin", "40"]]))
    assert "shares sum to 40" in text(wrong)
    for run in ImportRun.objects.filter(status="done").order_by("-pk"):
        client.post(f"/setup/imports/{run.pk}/change/", {"what": "undo"})
    assert state() == before


def test_a_workbook_with_a_title_formulas_signs_and_two_forms_of_dates_comes_in(demo, sign_in, tmp_path, settings):
    settings.WORK_FOLDER = tmp_path
    out = io.BytesIO()
    book = xlsxwriter.Workbook(out)
    sheet = book.add_worksheet()
    sheet.write(0, 0, "Open deals, as exported")
    for column, heading in enumerate(("Deal name", "Stage", "Amount", "Rep", "Close date")):
        sheet.write(2, column, heading)
    for row, (amount, day) in enumerate((("€1,250.50", "28/01/2027"), (None, date(2027, 2, 3)), (700, "3/2/2027")), 3):
        for column, words in ((0, f"Untold {row}"), (1, "Enquiry"), (3, "Iva Marrin")):
            sheet.write(row, column, words)
        if amount is None:
            sheet.write_formula(row, 2, "=600*2", None, 1200)
        else:
            sheet.write(row, 2, amount)
        if isinstance(day, date):
            sheet.write_datetime(
                row, 4, datetime(day.year, day.month, day.day), book.add_format({"num_format": "dd/mm/yyyy"})
            )
        else:
            sheet.write(row, 4, day)
    book.close()
    client = sign_in("a1")
    file = SimpleUploadedFile("deals.xlsx", out.getvalue())
    page = client.post("/setup/imports/", {"kind": "deals", "file": file}, follow=True)
    matching = page.context["matching"]
    assert matching.columns["amount"] == "Amount"
    posted = {f"c:{name}": heading for name, heading in matching.columns.items()} | {"dates": "dmy", "take": "yes"}
    posted |= {"numbers": matching.numbers, "process": "new_site"}
    client.post(page.redirect_chain[-1][0], posted, follow=True)
    made = {deal.name: last_revision(deal) for deal in Deal.objects.filter(name__startswith="Untold ")}
    assert {name: (r.amount_minor, str(r.expected_close)) for name, r in made.items()} == {
        "Untold 3": (125_050, "2027-01-28"), "Untold 4": (120_000, "2027-02-03"), "Untold 5": (70_000, "2027-02-03")}  # fmt: skip
