"""The quota plan: tools fill without saving, sums are exact, sheets go out and in, saved changes are undone."""

import io
import re

import openpyxl
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.support.answers import text
from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.domain.deals.actions import move_all
from wise_tally.domain.deals.selectors import last_revisions
from wise_tally.domain.formats import plan_value
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import Person
from wise_tally.domain.targets.models import CustomPeriod, Quota, QuotaChange, QuotaHold, SeasonCurve

pytestmark = pytest.mark.django_db
PAGE = "/setup/quotas/?year=2028"
AS_OF = "2026-11-23"
CELL = re.compile(r'name="(q|expected):([^"]+)" value="([^"]*)"')


def posted_of(answer):
    """What the page would post as it stands."""
    return {f"{kind}:{name}": value for kind, name, value in CELL.findall(text(answer))}


def row(posted, token):
    """A row's twelve cells in cents."""
    return [cents_of(v) for k, v in sorted(posted.items()) if k.startswith(f"q:{token}:")]


def cents_of(value):
    return cents(value if "." in value else f"{value}.00") if value else None


def test_from_a_year_total_to_every_rep_and_back_undone(demo, sign_in):
    client, before = sign_in("m1"), Quota.objects.count()
    planned = [ask("forecast", "FY2028", AS_OF, by=by) for by in ("person", "team", "company")]
    curve = {f"m{n}": share for n, share in enumerate(["5", "6", "7", "8", "9", "10", "10", "9", "8", "7", "6", "15"])}
    assert "add up to 99 %" in text(
        client.post("/setup/quotas/parts/", {"curve": "y", "name": "Theirs", **curve, "m11": "14"})
    )
    assert client.post("/setup/quotas/parts/", {"curve": "y", "name": "Theirs", **curve}).status_code == 302
    posted = posted_of(client.get(PAGE))
    step = client.post(
        PAGE,
        posted | {"tool": "spread-year", "row": "company:", "total": "5000000.07", "curve": "theirs", "step": "1000"},
    )
    posted = posted_of(step)
    months = row(posted, "company:")
    assert sum(months) == 500_000_007
    assert sum(month % 100_000 != 0 for month in months) == 1
    assert months[0] == 25_000_000
    assert "not saved yet" in text(step)
    assert Quota.objects.count() == before
    held = posted | {"q:person:r01:2027-04-01": "12345.67", "h:person:r01:2027-04-01": "on"}
    filled = client.post(
        PAGE, held | {"tool": "spread-down", "row": "company:", "levels": "all", "weights": "last-year"}
    )
    posted = posted_of(filled)
    assert all(not line.year.difference for line in filled.context["grid"].lines), "sums follow what is typed"
    people = list({k.rsplit(":", 1)[0][2:] for k in posted if k.startswith("q:person:")})
    for month in range(12):
        assert sum(row(posted, person)[month] or 0 for person in people) == months[month]
    assert posted["q:person:r01:2027-04-01"] == "12345.67"
    assert (
        client.post(
            PAGE, posted | {"what": "spread-down", "holds-shown": "y", "h:person:r01:2027-04-01": "on"}
        ).status_code
        == 302
    )
    assert QuotaHold.objects.count() == 1
    after = ask("forecast", "FY2028", AS_OF, by="team")
    assert ask("forecast", "FY2028", AS_OF)[""]["quota"] == "5000000.07"
    assert ask("forecast", "FY2028", AS_OF)[""]["quota_of_parts"] == "5000000.07"
    assert all(r["quota"] == r["quota_of_parts"] for k, r in after.items() if k != "scope" and r["quota"])
    change = QuotaChange.objects.get()
    assert client.post("/setup/quotas/undo/", {"change": change.pk}).status_code == 302
    assert [ask("forecast", "FY2028", AS_OF, by=by) for by in ("person", "team", "company")] == planned
    assert client.post("/setup/quotas/undo/", {"change": change.pk}).status_code == 409


def test_rolling_up_and_copying_last_year(demo, sign_in):
    client = sign_in("m1")
    this_year = posted_of(client.get("/setup/quotas/?year=2027"))
    copied = posted_of(client.post(PAGE, posted_of(client.get(PAGE)) | {"tool": "copy-year", "percent": "+10"}))
    for token in ("person:r01", "person:r08"):
        assert row(copied, token) == [round(v * 1.1) for v in row(this_year, token)]
    rolled = posted_of(client.post(PAGE, copied | {"tool": "roll-up", "row": "company:", "levels": "all"}))
    people = [row(rolled, t) for t in {k.rsplit(":", 1)[0][2:] for k in rolled if k.startswith("q:person:")}]
    assert row(rolled, "company:") == [sum(p[m] or 0 for p in people) for m in range(12)]
    assert "not a tool" in text(client.post(PAGE, copied | {"tool": "magic"}))
    for typed, says in (
        ({"given": "1,2,3"}, "3 shares for 4 rows"),
        ({"given": "0,0,0,0"}, "All shares are 0"),
    ):
        answer = client.post(PAGE, copied | {"tool": "spread-down", "row": "company:", "weights": "given", **typed})
        assert answer.status_code == 422
        assert says in text(answer)
        assert posted_of(answer)["q:person:r01:2027-04-01"] == copied["q:person:r01:2027-04-01"], "typed values stay"


def test_tools_say_what_they_do_and_keep_their_settings(demo, sign_in):
    """The sentence against what is then filled; typed shares are never ignored; a manager sells by choice."""
    client, words = sign_in("m1"), "/setup/quotas/words/?year=2028&row=team:fells&total=12k&curve=equal&step=1000&"
    told = client.get(words).json()
    assert told["year"] == "12\u00a0000 over the 12 months of Fells team, in equal parts, in steps of 1000."
    assert told["down"].startswith(
        "Each month of Fells team over Iva Marrin, Odran Tully and Petra Sund, in equal parts"
    )
    assert told["down"].endswith("Bram Oxley gets none.")
    assert "over Bram Oxley, Iva Marrin" in client.get(f"{words}managers=all").json()["down"]
    given = {"owner": Person.objects.get(name="Bram Oxley")}
    move_all(viewer_of(Person.objects.get(key="a1")), last_revisions().filter(deal__key="d9001"), given, "", now())
    revisions_added()
    assert "over Bram Oxley, Iva Marrin" in client.get(words).json()["down"], "he sells, too"
    assert "Bram Oxley gets none" in client.get(f"{words}managers=none").json()["down"]
    posted = posted_of(client.get(PAGE)) | {"tool": "spread-year", "row": "team:fells", "total": "12k", "step": "1000"}
    year = client.post(PAGE, posted | {"curve": "last-year"})
    assert [year.context["typed"][name] for name in ("row", "total", "curve")] == ["team:fells", "12k", "last-year"]
    posted = posted_of(client.post(PAGE, posted)) | {"tool": "spread-down", "row": "team:fells", "given": "1; 2; 3; 0"}
    assert "are typed, but others are chosen" in text(client.post(PAGE, posted | {"weights": "equal"}))
    filled = posted_of(client.post(PAGE, posted | {"weights": "given", "step": ""}))
    parts = {who: sum(v or 0 for v in row(filled, f"person:{who}")) for who in ("m2", "r01", "r02", "r03")}
    assert sum(parts.values()) == 1_200_000
    assert sorted(parts.values()) == pytest.approx([0, 200_000, 400_000, 600_000], abs=12), "a cent a month"


def test_a_plan_of_territories_has_a_row_for_all(demo, sign_in):
    client, page = sign_in("m1"), "/setup/quotas/?year=2027&tree=territories"
    first, *others = client.get(page).context["grid"].lines
    assert (first.node.token, {line.node.subject for line in others}) == ("company:", {"territory"})
    roots = [line.year for line in others if line.node.depth == 1]
    assert first.year.of_parts == sum(year.own if year.own is not None else year.of_parts for year in roots)
    opened = client.get("/setup/quotas/working/parts/?year=2027&tree=territories&node=company:")
    assert plan_value(first.year.of_parts, is_money=True) in text(opened)


def test_a_plan_of_many_territories_is_turned_over_and_saved_page_by_page(demo, sign_in, monkeypatch):
    client, page = sign_in("m1"), "/setup/quotas/?year=2027&tree=territories"
    every = [line.node.token for line in client.get(page).context["grid"].lines]
    monkeypatch.setattr("wise_tally.pages.setup.quotas.grid.AT_ONCE", 4)
    second = client.get(f"{page}&page=2")
    assert [line.node.token for line in second.context["grid"].lines] == ["company:", *every[4:8]]
    assert client.post(f"{page}&page=2", posted_of(second) | {f"q:{every[5]}:2027-03-01": "4321"}).status_code == 302
    assert Quota.objects.filter(subject="territory", value=432_100).count() == 1
    assert client.get(f"{page}&page=99").context["grid"].lines[-1].node.token == every[-1]


def workbook(client, change):
    """The downloaded sheet with cells changed, as an upload."""
    book = openpyxl.load_workbook(io.BytesIO(client.get("/setup/quotas/sheet.xlsx?year=2027").content))
    change(book.worksheets[0])
    out = io.BytesIO()
    book.save(out)
    return SimpleUploadedFile("plan.xlsx", out.getvalue())


def test_a_sheet_goes_out_filled_and_comes_back_previewed(demo, sign_in):
    client, page = sign_in("m1"), "/setup/quotas/?year=2027"
    before = Quota.objects.count()
    same = client.post(page, {"tool": "sheet", "file": workbook(client, lambda sheet: None)})
    assert "Nothing to change." in text(same)

    def raise_one(sheet):
        sheet["D5"] = 77_777.5

    preview = client.post(page, {"tool": "sheet", "file": workbook(client, raise_one)})
    assert "1 cell filled in" in text(preview)
    assert "→ 77777.50" in text(preview)
    assert Quota.objects.count() == before
    client.post(page, posted_of(preview) | {"what": "sheet"})
    assert Quota.objects.filter(value=7_777_750).count() == 1
    assert "77777.5" in client.get("/setup/quotas/sheet.csv?year=2027").content.decode()


def moved(sheet):
    sheet["A1"] = "Plan"


BAD_SHEETS = [
    (lambda s: setattr(s["D5"], "value", "=1+1") or setattr(s["D5"], "data_type", "s"), "D5 contains a formula"),
    (lambda s: s.__setitem__("E6", "lots"), "E6: “lots” is not valid"),
    (lambda s: s.__setitem__("E6", -3), "E6: “-3” is not valid"),
    (lambda s: s.__setitem__("B4", "nobody"), "is not in this plan. Delete the row or correct it."),
    (moved, "Row 1, column A is “Plan”, expected “subject”"),
    (lambda s: s.__setitem__("D1", "2031-01"), "column D is “2031-01”"),
]


@pytest.mark.parametrize(("change", "says"), BAD_SHEETS)
def test_faults_of_a_sheet_are_named_by_cell_and_nothing_is_saved(demo, sign_in, change, says):
    client, before = sign_in("m1"), Quota.objects.count()
    answer = client.post("/setup/quotas/?year=2027", {"tool": "sheet", "file": workbook(client, change)})
    assert answer.status_code == 422
    assert says in text(answer)
    assert Quota.objects.count() == before


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [("x.xlsx", b"PK\x03\x04 nothing", "The workbook cannot be read"), ("x.pdf", b"%PDF", "is not a CSV or XLSX file"),
     ("x.csv", b"", "is empty"), ("x.csv", b"PK\x03\x04zip", "a workbook with the ending .csv"),
     ("x.csv", b'a,b\n"open', "cannot be read as CSV"), ("x.csv", b"a,a\n1,2\n", "heading “a” appears twice")],
)  # fmt: skip
def test_files_that_are_no_tables_are_refused(demo, sign_in, name, content, says):
    answer = sign_in("m1").post(PAGE, {"tool": "sheet", "file": SimpleUploadedFile(name, content)})
    assert answer.status_code == 422
    assert says in text(answer)


def test_other_metrics_territories_and_custom_periods(demo, sign_in):
    client = sign_in("m1")
    deals = "/setup/quotas/?year=2027&tree=territories&metric=won_deals"
    name = "territory:lakeland:2026-12-01"
    assert client.post(deals, {f"q:{name}": "2.5", f"expected:{name}": ""}).status_code == 302
    quota = Quota.objects.get(metric="won_deals", subject="territory")
    assert (quota.subject, quota.value) == ("territory", 250)
    assert 'value="2.5"' in text(client.get(deals))
    bad = {"name": "Autumn", "starts_on": "2026-12-24", "ends_on": "2026-12-01"}
    assert "is before" in text(client.post("/setup/quotas/parts/", bad))
    client.post("/setup/quotas/parts/", bad | {"ends_on": "2027-01-06"})
    period = CustomPeriod.objects.get()
    campaign = f"/setup/quotas/?year=2027&period={period.key}"
    cell = "company::2026-12-24"
    overlaps = client.post(campaign, {f"q:{cell}": "9", f"expected:{cell}": ""})
    assert "overlaps this period. Choose dates that do not overlap." in text(overlaps)
    assert (
        client.post(
            campaign + "&metric=activities&activity_kind=phone", {f"q:{cell}": "9", f"expected:{cell}": ""}
        ).status_code
        == 302
    )
    for query in ("tree=moons", "metric=luck", "period=never", "activity_kind=phone", "year=12"):
        assert client.get(f"/setup/quotas/?{query}").status_code in (400, 404), query
    assert SeasonCurve.objects.count() == 1, "the demo's own"


def test_what_is_typed_is_added_up_before_it_is_saved(demo, sign_in):
    client, page, before = sign_in("m1"), "/setup/quotas/?year=2027", Quota.objects.count()
    posted = posted_of(client.get(page))
    typed = posted | {"q:person:r01:2026-04-01": "1.25k", "q:person:r02:2026-04-01": "nonsense", "tool": "sums"}
    answer = client.post(page, typed)
    assert (answer.status_code, Quota.objects.count()) == (422, before), "a cell cannot be read, nothing is kept"
    lines = {line.node.token: line for line in answer.context["grid"].lines}
    assert lines["person:r01"].quarters[0] == 125_000 + sum(row(posted, "person:r01")[1:3])
    assert [bool(cell.fault) for cell in lines["person:r02"].cells[:2]] == [True, False]
    parts = sum(lines[f"person:{key}"].year.own for key in ("r01", "r02", "r03"))
    assert lines["team:fells"].year.of_parts == parts
