"""Typed numbers, number filters, scopes of viewers, signing in, the merging of books, output formats."""

import json
from datetime import UTC, date, datetime
from decimal import Decimal

import pytest
from django.contrib.auth.models import User
from django.core.exceptions import PermissionDenied
from django.core.management import call_command
from hypothesis import example, given
from hypothesis import strategies as st

from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.core.lines import Filter
from wise_tally.domain import formats as filters
from wise_tally.domain.deals.models import Deal, DealRevision
from wise_tally.domain.deals.names_alike import names_alike
from wise_tally.domain.org.access import ROLES, May, Viewer, allowed_scope, may_change_deal
from wise_tally.domain.org.book_number import revisions_added
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.sign_in_actions import give_sign_in
from wise_tally.domain.process.models import Stage
from wise_tally.domain.typed_numbers import typed_days, typed_money, typed_percent, typed_quantity
from wise_tally.package.cells import number, scaled
from wise_tally.pages.deals.history import history
from wise_tally.web.ink import ink_bar

DAY = date(2026, 11, 23)


@given(st.integers(-(10**11) + 1, 10**11 - 1), st.sampled_from([0, 2, 3]))
def test_numbers_written_are_read_back(value, decimals):
    """What export writes, import reads as the same integer."""
    assert number(scaled(value, decimals), decimals, signed=True) == value
    assert number(scaled(value, decimals, trim=True), decimals, signed=True) == value


@pytest.mark.parametrize("cell", ["1e5", "+1", "1.", ".5", " 1", "١٢", "--1", "1.2.3", "0x1", "inf"])
def test_what_is_no_plain_number_is_refused(cell):
    assert not isinstance(number(cell, 2, signed=True), int)


def test_typed_numbers():
    assert typed_money("1 250.5", 2) == 125_050
    assert typed_money("1250", 0) == 1250
    assert typed_percent("12.5") == 1250
    assert "above 100" in str(typed_percent("100.01"))
    assert typed_money("€1,250.00", 2) == typed_money("1.25k EUR", 2) == 125_000
    assert "“$” is not accepted here; only €" in str(typed_money("$5", 2))
    assert "Enter a number" in str(typed_money("-5", 2))
    assert "Enter a number" in str(typed_money("1,25,0", 2))
    assert "Enter a" in str(typed_money("1.5", 0))
    assert (typed_days(""), typed_days("3")) == (None, 300)


def test_numbers_as_people_read_them():
    assert filters.money(-123_456_789) == "−1\u00a0234\u00a0567.89"
    assert filters.whole(150) == "2"
    assert filters.whole(250) == "2", "half to even"
    assert [filters.short(v) for v in (None, 0, 99_900, 123_400, 1_234_500, 124_000_000)] == [
        "–", "0", "999", "1.2\u00a0k", "12\u00a0k", "1.24\u00a0m"
    ]  # fmt: skip
    assert (filters.percent(0.435), filters.percent(None)) == ("43.5\u00a0%", "–")
    assert (filters.times(1.44), filters.times(950.0), filters.days(8.24)) == ("1.4×", "over 100×", "8.2\u00a0d")
    assert (filters.points(1250), filters.bare(1_234_567), filters.signed_short(14_000_000)) == (
        "12.5\u00a0%",
        "12345.67",
        "+140\u00a0k",
    )
    assert [filters.signed_percent(v) for v in (0.08, -0.08, -0.004, 0.004)] == [
        "+8\u00a0%",
        "−8\u00a0%",
        "0\u00a0%",
        "0\u00a0%",
    ]
    assert {filters.signed_short(v) for v in (50, -50, 30, 0)} == {filters.short(-30)} == {"0"}, (
        "what shows as zero has no sign"
    )


@given(st.integers(0, 10**12), st.lists(st.integers(0, 10**12), max_size=4), st.integers(1, 10**13))
def test_an_ink_bar_never_leaves_its_scale(won, categories, quota):
    """Segments lie side by side and end at the sum; the quota's stroke stays inside."""
    largest = max(won + sum(categories), quota)
    bar = ink_bar(won, categories, quota, quota // 2, largest)
    ends = [float(s.left[:-1]) + float(s.width[:-1]) for s in bar.segments]
    assert all(end <= 100.02 for end in ends)
    assert float(bar.quota[:-1]) <= 100
    assert [s.grade for s in bar.segments if s.grade == "won"] == (["won"] if won else [])


@pytest.fixture
def firm(db, tmp_path):
    """Two teams of which m manages the lower."""
    world = World().deal("d", ("2026-01-01", "s1", 10, "2026-12-01", {"owner_id": "b"}))
    world.tables["teams"][1]["manager_id"] = "m"
    world.read(tmp_path)
    return books.current().reference


def test_scopes_are_narrowed_in_one_place(firm):
    """Index 0 is t1, 1 is t2; people a, b, c, m are 0 to 3."""
    rep, manager = Viewer("b", "B", "rep", ()), Viewer("m", "M", "manager", ("t2",))
    top, nobody = Viewer("m", "M", "manager", ("t1",)), Viewer("m", "M", "manager", ())
    assert allowed_scope(rep, firm, DAY, Filter()) == Filter(person=1)
    assert allowed_scope(manager, firm, DAY, Filter()) == Filter(team=1)
    assert allowed_scope(top, firm, DAY, Filter()) == Filter(), "who manages every root sees everything"
    assert allowed_scope(nobody, firm, DAY, Filter()) == Filter(person=3), "without a team, own figures only"
    for viewer, asked in (
        (rep, Filter(person=0)),
        (rep, Filter(team=1)),
        (manager, Filter(team=0)),
        (manager, Filter(person=0)),
    ):
        with pytest.raises(PermissionDenied):
            allowed_scope(viewer, firm, DAY, asked)
    assert [may_change_deal(v, firm, DAY, 1) for v in (rep, manager, top, nobody)] == [True, True, True, False]
    assert not may_change_deal(Viewer("v", "V", "viewer", ()), firm, DAY, 1)
    assert May.SET_RULES not in ROLES["rep"]


def test_signing_in(firm, client):
    user = User.objects.create_user("b", password="right and long")
    Person.objects.filter(key="b").update(user=user)
    wrong = client.post("/sign-in/", {"username": "b", "password": "wrong", "next": "/deals/"})
    assert wrong.status_code == 401
    assert 'value="b"' in wrong.content.decode()
    away = client.post(
        "/sign-in/", {"username": "b", "password": "right and long", "next": "https://elsewhere.example/"}
    )
    assert away.url == "/"
    assert client.get("/forecast/").status_code == 200
    client.post("/sign-out/")
    asked = client.get("/deals/?find=x&who=person:a").url
    assert asked == "/sign-in/?next=%2Fdeals%2F%3Ffind%3Dx%26who%3Dperson%3Aa"
    assert 'value="/deals/?find=x&amp;who=person:a"' in client.get(asked).content.decode(), "the whole scope comes back"
    client.force_login(User.objects.create_superuser("root", password="x"))
    assert client.get("/setup/").status_code == 302, "who is not among the people is nobody"


def test_after_ten_wrong_passwords_there_is_a_pause(firm, client):
    Person.objects.filter(key="b").update(user=User.objects.create_user("b", password="right and long"))
    answers = [client.post("/sign-in/", {"username": "b", "password": f"wrong {n}"}) for n in range(10)]
    assert {answer.status_code for answer in answers[:9]} == {401}
    locked = client.post("/sign-in/", {"username": "b", "password": "right and long"})
    assert locked.status_code == 429
    assert "Wait 15 minutes" in locked.content.decode()
    assert 'value="b"' in locked.content.decode()
    assert client.post("/sign-in/", {"username": "other", "password": "x"}).status_code == 401
    _, password = give_sign_in(
        Viewer("m", "M", "admin", ()), Person.objects.get(key="b"), datetime(2026, 11, 23, tzinfo=UTC)
    )
    assert client.post("/sign-in/", {"username": "b", "password": password}).status_code == 302


def test_one_click_sign_in_exists_in_the_demo_only(firm, client, settings):
    settings.DEMO = False
    assert client.post("/sign-in/demo/", {"role": "admin"}).status_code == 404


def test_new_deals_are_appended_to_the_shelf(firm):
    before = books.current()
    s2, owner = Stage.objects.get(key="s2"), Person.objects.get(key="a")
    for key in ("z", "e"):
        at = datetime(2026, 11, 1, tzinfo=UTC)
        deal = Deal.objects.create(key=key, name=key, process=s2.process, created_at=at)
        DealRevision.objects.create(
            deal=deal, effective_at=at, stage=s2, amount_minor=500, owner=owner, expected_close=DAY
        )
    assert books.current() is before, "nothing is read again until the number is raised"
    revisions_added()
    row = ask("forecast", "FY2027", "2026-11-23")[""]
    assert (row["open"], row["deals_open"]) == ("20.00", 3)
    assert len(before.deals.key) == 1, "the old snapshot is frozen"
    merged = ask("conversion", "FY2027", "2026-11-23")["s2"]["reached"]
    books.forget()
    assert ask("conversion", "FY2027", "2026-11-23")["s2"]["reached"] == merged == 2


def test_history_reads_as_sentences(db, tmp_path):
    world = World().deal(
        "d", ("2025-01-01", "s2", 10, "2025-03-01"), ("2025-01-02", "s2", 10, "2025-03-15", {"owner_id": "b"}),
        ("2025-01-03", "s1", 12, "2025-03-10", {"category_id": "commit"}), ("2025-01-04", "l", 12, None, {"lost_reason": "price"}),
    )  # fmt: skip
    world.read(tmp_path)
    entries = history(Deal.objects.get(), 1 << 40)
    last, back, slip, first = (entry.changes for entry in entries)
    assert last == ("one → lost", "expected close 10 Mar 2025 → –", "category commit → none", "lost: price")
    assert back[:3] == ("back: two → one", "amount 10.00 → 12.00", "expected close 15 Mar 2025 → 10 Mar 2025")
    assert back[3:] == ("owner B → A", "category none → commit")
    assert slip == ("expected close 1 Mar 2025 → 15 Mar 2025, slipped 14 days", "owner A → B")
    assert first == ("created in two", "amount 10.00", "expected 1 Mar 2025")
    assert len(history(Deal.objects.get(), int(datetime(2025, 1, 3, tzinfo=UTC).timestamp()))) == 2, "as it stood"


def test_figures_are_printed_as_json_csv_and_table(firm, capsys):
    def printed(shape):
        call_command("figures", "forecast", "--period", "FY2027", "--by", "person", "--format", shape)
        return capsys.readouterr().out

    rows = json.loads(printed("json"))["rows"]
    lines = printed("csv").splitlines()
    assert len(lines) == len(rows) + 1
    assert "categories.commit" in lines[0]
    assert lines[2].split(",")[lines[0].split(",").index("open")] == rows[1]["open"] == "10.00"
    table = printed("table").splitlines()
    assert table[0] == "forecast · FY2027 · as of 2026-11-23 · by person"
    assert len(table) == len(rows) + 2
    assert "–" in table[2], "none is shown as a dash"


@given(st.integers(1, 10**15))
def test_an_axis_has_round_marks_up_to_what_it_shows(largest):
    """At most five, of one step that people count in, and the top mark is reached by less than one step of air."""
    from wise_tally.web.ticks import round_ticks

    ticks = round_ticks(largest)
    step = ticks[0]
    assert ticks == [step * place for place in range(1, len(ticks) + 1)]
    assert len(ticks) <= 5
    assert largest <= ticks[-1] < largest + step
    assert str(step).rstrip("0") in ("1", "2", "25", "5")


@given(st.integers(0, 10**12), st.sampled_from([".", ","]), st.sampled_from(["EUR", "JPY", "KWD"]))
def test_what_is_written_is_read_back_in_every_style(minor, decimal, currency):
    filters.use_workspace(currency, "UTC", decimal)
    try:
        decimals = filters.currency_decimals()
        if minor < 10 ** (11 + decimals):
            for text in (
                filters.money(minor),
                filters.money_input(minor),
                f"{filters.currency_sign()}{filters.money(minor)}",
            ):
                assert typed_money(text, decimals) == minor, text
        assert typed_percent(filters.points(minor % 10_001)) == minor % 10_001
        assert typed_quantity(filters.quantity(minor)) == minor
        assert filters.plain_money(minor) == f"{Decimal(minor).scaleb(-decimals):.{decimals}f}"
    finally:
        filters.use_workspace("EUR", "UTC")


SLIPS = (
    "weir",
    "wier",
    "weirs",
    "harbour",
    "harbor",
    "harbourweir",
    "harbourswier",
    "harborwei",
    "greatharbourweir",
    "great",
    "arbourweir",
    "x",
)
NAMES = st.lists(st.sampled_from(SLIPS), max_size=3).map(" ".join)


@given(st.lists(NAMES, max_size=12), NAMES)
@example(["harbourweir"], "arbour weir")
def test_names_that_are_alike_are_found_among_all_as_one_by_one(names, name):
    """Source: own definition; how alike two words are is the normalized Indel similarity, here by its longest common part."""

    def ratio(one, other):
        table = {}
        for i, first in enumerate(one):
            for j, second in enumerate(other):
                longest = max(table.get((i - 1, j), 0), table.get((i, j - 1), 0))
                table[i, j] = table.get((i - 1, j - 1), 0) + 1 if first == second else longest
        return 200 * max(table.values(), default=0) / (len(one) + len(other))

    def alike(one, other):
        shorter, longer = sorted((one, other), key=len)
        least, left = 100 if shorter and len(longer) <= 2 * len(shorter) else 0, list(longer)
        for word in sorted(shorter, key=len, reverse=True) if least else ():
            best = max(left, key=lambda candidate: ratio(word, candidate))
            left.remove(best)
            least = min(least, ratio(word, best))
        first, second = "".join(one), "".join(other)
        if (
            first
            and second
            and abs(len(first) - len(second)) <= 2
            and first[0] == second[0]
            and ratio(first, second) >= 92
        ):
            least = max(least, ratio(first, second))
        return least

    split = [[word for word in text.split() if len(word) > 1] for text in (name, *names)]
    expected = {index: value for index, own in enumerate(split[1:]) if (value := alike(split[0], own)) >= 80}
    assert names_alike(name, tuple(names)) == pytest.approx(expected)
