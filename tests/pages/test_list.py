"""The list of deals against a naive second reading of its own rows: filters, orders, columns, views, files."""

import csv
import io
from random import Random

import pytest

from tests.support.answers import text
from wise_tally.domain.deals.models import Deal, OwnField, OwnFieldValue, SavedView
from wise_tally.pages.deals.columns import all_columns

pytestmark = pytest.mark.django_db


@pytest.fixture
def everything(demo, sign_in):
    """A manager's client, every column, and every deal as a row of plain values by heading."""
    OwnField.objects.create(key="basin", applies_to="deal", name="basin, km²", kind="number")
    OwnField.objects.create(key="river", applies_to="deal", name="river", kind="text")
    for place, key in enumerate(Deal.objects.order_by("key").values_list("key", flat=True)[:300]):
        for name, value in (("basin", str(place * 7 % 100)), ("river", f"River {place % 9}")):
            OwnFieldValue.objects.create(field=OwnField.objects.get(key=name), subject_key=key, value=value)
    client, columns = sign_in("m1"), all_columns()
    answer = client.get(f"/deals/table.json?status=all&cols={','.join(columns)}").json()
    rows = {row[0]: dict(zip(answer["columns"], row, strict=True)) for row in answer["rows"]}
    assert len(rows) == Deal.objects.count()
    return client, columns, rows


def value_of(column, row):
    value = row["deal"] if column.name == "name" else row[column.words]
    if value in ("", None):
        return None
    kinds = ("money", "days", "percent", "count")
    return float(value) if column.kind in kinds else str(value).casefold()


def holds(column, test, wanted, row):
    """The naive reading of one clause on one row."""
    value = value_of(column, row)
    if test in ("empty", "filled"):
        return (value is None) == (test == "empty")
    plain = float(wanted) if isinstance(value, float) else wanted.casefold()
    if value is None:
        return test == "is_not" and column.kind in ("text", "choice")
    return {"is": lambda: value == plain, "is_not": lambda: value != plain, "has": lambda: plain in value,
            "from": lambda: value >= plain, "to": lambda: value <= plain}[test]()  # fmt: skip


TRIED = {
    "amount": ("from", "to", "is"), "weighted": ("to",), "close": ("from", "to", "empty"), "created": ("from",),
    "owner": ("is", "is_not"), "stage": ("is",), "territory": ("is", "empty"), "source": ("is_not",), "type": ("is",),
    "slips": ("from", "is"), "slipped": ("to",), "gap": ("from", "to"), "margin": ("from", "empty", "filled"),
    "customer": ("has", "is"), "competitor": ("is", "filled"), "contact": ("empty", "is_not"), "next_step": ("is", "empty"),
    "next_on": ("from", "empty", "is_not"), "name": ("has",), "probability": ("is",), "category": ("is",),
    "own.basin": ("from", "to", "is_not"), "own.river": ("has", "is", "empty"), "process": ("is",),
    "reason": ("is", "has", "empty", "is_not"),
}  # fmt: skip


def test_filters_of_every_kind_joined_by_all_and_any(everything):
    client, columns, rows = everything
    random = Random(7)
    clauses = [(columns[name], test) for name, tests in TRIED.items() for test in tests]
    typed = {}
    for column, test in clauses:
        values = sorted({str(value_of(column, row)) for row in rows.values() if value_of(column, row) is not None})
        value = random.choice(values)
        typed[column.name, test] = "" if test in ("empty", "filled") else value[:6] if test == "has" else value
    ways = [([clause], "all") for clause in clauses]
    ways += [(random.sample(clauses, 3), random.choice(("all", "any"))) for _ in range(12)]
    for chosen, join in ways:
        named = [(column, test, typed[column.name, test]) for column, test in chosen]
        # Days and percentages are shown rounded, so bounds on them are not tried.
        query = {"status": "all", "join": join, "cols": "amount", "f": [f"{c.name}:{t}:{v}" for c, t, v in named]}
        answer = client.get("/deals/table.json", query)
        assert answer.status_code == 200, text(answer)[:400]
        every = all if join == "all" else any
        expected = {key for key, row in rows.items() if every(holds(c, t, v, row) for c, t, v in named)}
        assert {row[0] for row in answer.json()["rows"]} == expected, (query, len(expected))


def keys_of(client, *clauses, **more):
    """The deals that a list of these filters holds."""
    answer = client.get("/deals/table.json", {"cols": "amount", "f": clauses, "status": "all", **more})
    assert answer.status_code == 200, text(answer)[:300]
    return {row[0] for row in answer.json()["rows"]}


def test_groups_of_alternatives_several_choices_and_relative_days(demo, sign_in):
    """(A or B) and C is what it says; a choice of two is either; spans of days are seen from the as-of day."""
    client = sign_in("m1")
    offer, terms, big = (keys_of(client, clause) for clause in ("stage:is:Offer", "stage:is:Terms", "amount:from:50k"))
    assert keys_of(client, "a~stage:is:Offer", "a~stage:is:Terms", "amount:from:50k") == (offer | terms) & big
    assert keys_of(client, "stage:is:Offer|Terms") == offer | terms
    assert keys_of(client, "stage:is_not:Offer|Terms") == keys_of(client) - offer - terms
    assert keys_of(client, "a~stage:is:Offer", "a~amount:from:50k", "b~stage:is:Terms") == (offer | big) & terms
    spans = {"this month": ("2026-11-01", "2026-11-30"), "next 30 days": ("2026-11-23", "2026-12-22"),
             "last quarter": ("2026-07-01", "2026-09-30"), "this year": ("2026-04-01", "2027-03-31")}  # fmt: skip
    for words, (first, last) in spans.items():
        assert keys_of(client, f"close:in:{words}") == keys_of(client, f"close:from:{first}", f"close:to:{last}")
        assert keys_of(client, f"next_on:in:{words}") == keys_of(client, f"next_on:from:{first}", f"next_on:to:{last}")
    assert keys_of(client, "close:to:-14") == keys_of(client, "close:to:9 Nov 2026")
    both = client.get("/deals/?only=overdue&only=slipped+twice").context["list"]
    alone = [client.get(f"/deals/?only={one}").context["list"] for one in ("overdue", "slipped+twice")]
    assert set(both.all_places) == set(alone[0].all_places) & set(alone[1].all_places)


def test_a_filter_that_is_not_understood_is_told_at_its_field_and_the_rest_stays(demo, sign_in):
    client = sign_in("m1")
    kept = client.get("/deals/?f=stage:is:Offer").context["list"].total
    new = client.get("/deals/?f=stage:is:Offer&new_column=amount&new_test=from&new_value=lots")
    assert (new.status_code, new.context["list"].total) == (422, kept)
    assert "“lots” is not valid" in new.context["new_filter"].fault
    assert 'value="lots"' in text(new), "what was typed stays"
    old = client.get("/deals/?f=stage:is:Offer&f=close:to:soon")
    assert (old.status_code, old.context["list"].total) == (422, kept)
    chips = [chip for group in old.context["groups"] for chip in group]
    assert [bool(chip.fault) for chip in chips] == [False, True]
    assert client.get(f"/deals/?{chips[1].off}").status_code == 200
    assert client.get("/deals/table.csv?f=close:to:soon").status_code == 400, (
        "a file is never of fewer filters than asked for"
    )
    # A chip opens filled in, and what is typed takes its place; an alternative joins its group.
    opened = client.get(f"/deals/?{chips[0].change}").context["new_filter"]
    assert (opened.column.name, opened.values, opened.instead) == ("stage", ["Offer"], "stage:is:Offer")
    typed = {
        "f": "stage:is:Offer",
        "new_column": "stage",
        "new_test": "is",
        "new_value": ["Offer", "Terms"],
        "new_instead": opened.instead,
    }
    changed = client.get("/deals/", typed).context["list"]
    assert [clause.text for clause in changed.clauses] == ["stage:is:Offer|Terms"]
    other = client.get(f"/deals/?{chips[0].alternative}&new_test=is&new_value=Terms").context["list"]
    assert [clause.text for clause in other.clauses] == ["a~stage:is:Offer", "a~stage:is:Terms"]
    assert set(other.all_places) == set(changed.all_places)


def test_sorting_by_several_columns_is_stable_and_turns_round(everything):
    client, columns, rows = everything
    for sort in ("-slips,amount", "stage,-close", "customer,-amount", "-own.basin,name", "-gap,-margin,created"):
        names = [part.removeprefix("-") for part in sort.split(",")]
        found = client.get(f"/deals/table.json?status=all&sort={sort}&cols={','.join(names)}").json()
        first, falls = columns[names[0]], sort.startswith("-")
        values = [value_of(first, dict(zip(found["columns"], row, strict=True))) for row in found["rows"]]
        known = [v for v in values if v is not None]
        if first.name != "stage":
            assert known == sorted(known, reverse=falls), sort
        assert len(values) == len(rows)
    pairs = client.get("/deals/table.json?status=all&sort=-slips,amount&cols=slips,amount").json()["rows"]
    assert [(-r[2], float(r[3])) for r in pairs] == sorted((-r[2], float(r[3])) for r in pairs)


def test_columns_and_files_are_exactly_what_is_shown(everything):
    client, *_ = everything
    posted = {"query": "stage=ns_offer", "column:margin": "2", "column:owner": "1", "column:amount": "9"}
    chosen = client.post("/deals/columns-of-the-list/", posted)
    assert "cols=owner%2Cmargin%2Camount" in chosen.url
    page = client.get(chosen.url)
    assert [column.name for column, *_ in page.context["heads"]] == ["owner", "margin", "amount"]
    query = chosen.url.partition("?")[2]
    rows = list(csv.reader(io.StringIO(text(client.get(f"/deals/table.csv?{query}")))))
    assert rows[0] == ["id", "deal", "owner", "margin", "amount"]
    listed = page.context["list"]
    assert len(rows) - 1 == listed.total
    assert sum(round(float(row[4]) * 100) for row in rows[1:]) == listed.amount_minor
    assert [row[1] for row in rows[1:51]] == [row.name for row in page.context["rows"]]
    assert client.get(f"/deals/table.xlsx?{query}").content[:2] == b"PK"
    assert client.post("/deals/columns-of-the-list/", {"column:owner": "x"}).status_code == 422


def test_saved_views_are_ones_own_or_shared_and_one_is_the_start(demo, sign_in):
    client = sign_in("m2")
    query = "status=all&sort=-slips&f=owner:is:Odran+Tully&who=team:fells&page=3"
    kept = client.post("/deals/views/".replace("views", "saved-views"), {"name": "Odran slips", "query": query})
    view = SavedView.objects.get()
    assert (view.owner.key, view.shared) == ("m2", False)
    assert "who=" not in view.query, "the scope stays the reader's own"
    assert "page=" not in view.query
    assert client.get(kept.url).context["list"].total > 0
    other = sign_in("m1")
    assert "Odran slips" not in text(other.get("/deals/"))
    assert other.post("/deals/saved-views/", {"view": view.key, "what": "share"}).status_code == 404
    client = sign_in("m2")
    client.post("/deals/saved-views/", {"view": view.key, "what": "share"})
    client.post("/deals/saved-views/", {"view": view.key, "what": "start"})
    start = client.get("/deals/")
    assert start.status_code == 302
    assert view.query in start.url
    assert client.get("/deals/?plain=1").status_code == 200
    other = sign_in("m1")
    assert "Odran slips" in text(other.get("/deals/"))
    assert other.post("/deals/saved-views/", {"view": view.key, "what": "away"}).status_code == 403
    other.post("/deals/saved-views/", {"view": view.key, "what": "start"})
    assert SavedView.objects.filter(owner__key="m1", starts=True, shared=False).count() == 1, "a copy of one's own"
    assert client.post("/deals/saved-views/", {"name": " ", "query": ""}).status_code == 422


@pytest.mark.parametrize(
    ("query", "says"),
    [
        ("f=nothing:is:1", "is not a column"),
        ("f=amount:has:1", "cannot be used with amount"),
        ("f=amount:from:many", "a number from 0"),
        ("f=close:to:soon", "is not a date"),
        ("f=gap:from:inf", "is not a number. Enter a number such as 12.5."),
        ("f=owner:is:Nobody", "owner “"),
        ("f=owner:is:", "Enter a value for “owner is”"),
        ("join=some", "all, any"),
        ("sort=-colour", "Choose one of: customer"),
        ("sort=amount,close,owner,days", "up to 3"),
        ("cols=amount,shoe", "shoe"),
        ("&".join(["f=amount:from:1"] * 13), "up to 12"),
    ],
)
def test_what_a_list_cannot_be_is_said(demo, sign_in, query, says):
    answer = sign_in("m1").get(f"/deals/?{query}")
    assert answer.status_code in (400, 422)
    assert says in text(answer)


def test_several_customers_are_named_in_one_filter(demo, sign_in):
    """Parts of names apart by semicolons: what either finds; none of them where it says is not."""
    client = sign_in("m1")

    def names(clause):
        answer = client.get(f"/deals/table.json?status=all&cols=customer&f=customer:{clause}").json()["rows"]
        return {row[-1] for row in answer}

    one, other = names("has:orrin upper"), names("has:fenlow fish")
    assert one
    assert other
    assert names("has:orrin upper; fenlow fish;") == one | other
    assert not names("is_not:Fenlow Fish Farm;Orrin Upper Water Board") & {
        "Fenlow Fish Farm",
        "Orrin Upper Water Board",
    }
