"""Any two pinned figures, deal by deal: the sets add up to the figures, and the reasons are true."""

from datetime import date

import pytest

from tests.support.answers import text
from tests.support.naive import cents
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.core.reference_data import OPEN, WON

pytestmark = pytest.mark.django_db
TODAY = date(2026, 11, 23)
SCOPE = "period=FY2026&process=new_site"


def pin(client, *addresses):
    for address in addresses:
        assert client.post("/pins/", {"address": address, "next": "/forecast/"}).status_code == 302
    return client.get("/compare/").context


def ids(side):
    return {key for key, *_ in side["rows"]}


def test_the_two_win_rates_differ_by_their_base_and_it_says_so(demo, sign_in):
    """Pinned and reconciled in three clicks: open one, pin it, open the other."""
    client = sign_in("m1")
    created, closed = (f"/conversion/working/{name}/?{SCOPE}" for name in ("of_created", "of_closed"))
    assert "Pin to compare" in text(client.get(created))
    pin(client, created)
    opened = text(client.get(closed))
    assert "Compared with the pinned figure “Win rate of created deals”:" in opened
    book = books.current()
    snapshot = book.as_of(TODAY)
    first, last = date(2025, 4, 1).toordinal(), date(2026, 3, 31).toordinal()
    mine = [i for i in range(len(snapshot.deal)) if book.deals.process[snapshot.deal[i]] == 0]
    made = {int(snapshot.deal[i]) for i in mine if first <= book.created_on[snapshot.deal[i]] <= last}
    ended = {int(snapshot.deal[i]) for i in mine if snapshot.kind[i] != OPEN and first <= snapshot.closed_on[i] <= last}
    assert f"{len(made & ended)} deals in both" in opened
    assert (
        f"{len(ended - made)} only here; most often because it is not one of the deals created in the period" in opened
    )
    sides = pin(client, created, closed)["sides"]
    assert [side["total"] for side in sides] == [len(made - ended), len(ended - made), len(made & ended)]
    assert sides[0]["reasons"][0] == ("is not one of the deals won or lost in the period", len(made - ended))
    client.post("/pins/", {"what": "forget"})
    assert client.get("/compare/").context["sides"] is None


def test_figures_of_money_reconcile_to_the_cent(demo, sign_in):
    client, book = sign_in("m1"), books.current()
    one = "/forecast/working/weighted/?period=FY2027-Q3&node=company:"
    other = "/forecast/working/won/?period=FY2027-Q3&as_of=2026-11-02&node=team:rivers"
    answer = pin(client, one, other)
    told = [ask("forecast", "FY2027-Q3", "2026-11-23")[""]["weighted"],
            ask("forecast", "FY2027-Q3", "2026-11-02", by="team")["rivers"]["won"]]  # fmt: skip
    totals = [0, 0]
    for side in answer["sides"]:
        totals[0] += sum(item.first_value for _, _, item, _ in side["rows"])
        totals[1] += sum(item.second_value for _, _, item, _ in side["rows"])
    assert totals == [cents(value) for value in told]
    only_first = {key: words for key, _, _, words in answer["sides"][0]["rows"]}
    assert only_first["d9001"] == "has a different status"
    at = {book.deals.key[int(d)]: i for i, d in enumerate(book.as_of(TODAY).deal)}
    snapshot = book.as_of(TODAY)
    for key, words in only_first.items():
        if words == "has a different status":
            assert snapshot.kind[at[key]] == OPEN or snapshot.closed_on[at[key]] > date(2026, 11, 2).toordinal()
        elif words == "belongs to somebody else":
            assert book.reference.people[snapshot.owner[at[key]]].key not in ("r08",) or snapshot.kind[at[key]] == WON


def test_what_cannot_be_pinned_or_seen_is_refused(demo, sign_in):
    client = sign_in("m1")
    for address in ("/forecast/working/quota/", "/deals/", "/nowhere/", "/conversion/working/time/?stage=ns_offer", ""):
        assert client.post("/pins/", {"address": address}).status_code == 422, address
    pin(client, "/forecast/working/won/?node=team:rivers")
    rep = sign_in("r01")
    assert rep.post("/pins/", {"address": "/forecast/working/won/?who=team:rivers"}).status_code == 422
    for address in ("/forecast/working/won/", "/forecast/working/open/"):
        rep.post("/pins/", {"address": address})
    sides = rep.get("/compare/").context["sides"]
    mine = {row[0] for row in rep.get("/deals/table.json?status=all").json()["rows"]}
    assert all(ids(side) <= mine for side in sides), "only deals that the viewer may open"
