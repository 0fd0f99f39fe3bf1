"""Closed doors: valid requests about things of one's own, of one's team and of others, by each role; nothing of others is shown."""

import re
from contextlib import contextmanager

import pytest
from django.db import transaction
from django.test import Client

from tests.conftest import NOW
from tests.pages.test_permissions import TABLE, viewer
from tests.support.doors import Belongings, Firm, written
from tests.support.posts import (
    ADMIN,
    ANYBODY,
    MINE,
    MINE_OR_ADMIN,
    MIXED,
    OWN,
    POSTS,
    RULES,
    SELLERS,
)
from wise_tally.book.store import books
from wise_tally.domain.dashboards.models import Tile
from wise_tally.domain.deals.models import Account, Deal, DealRevision, Lead
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.models import Opening, Person, Team
from wise_tally.domain.org.token_actions import give_token

pytestmark = pytest.mark.django_db
ROLES = ("r01", "r02", "r08", "m2", "m1", "a1", "viewer")
# r01 and r02 are of the Fells team, which m2 manages; r08 is of the Rivers team; m1 manages both regions.
OWNERS = ("r01", "r08")
ABOVE = {"r01": {"m2", "m1", "a1"}, "r08": {"m1", "a1"}}


def may(who, whose, owner):
    """Whether somebody may do what `whose` asks to a thing of an owner."""
    if whose in (ADMIN, ANYBODY):
        return (whose == ANYBODY and who != "nobody") or who == "a1"
    if whose == SELLERS:
        return who not in ("viewer", "nobody")
    if whose in (MINE, MINE_OR_ADMIN):
        return who == owner or (whose == MINE_OR_ADMIN and who == "a1")
    if whose == RULES:
        return who in ("m1", "m2", "a1")
    return who in ABOVE[owner] or (whose == OWN and who == owner)


@contextmanager
def nothing_stays():
    """What is written inside is rolled back, and the book is the one of before."""
    books.stored()
    kept = books._current
    with transaction.atomic():
        yield
        transaction.set_rollback(True)
    books._current = kept


def tried(client, owned, address, body, held=None):
    """The answer to one request and the tables it wrote to; nothing of it stays, nor of what the session held before."""
    with nothing_stays():
        if held:
            session = client.session
            session.update(owned.fill(held))
            session.save()
        return written(lambda: client.post(owned.fill(address), owned.fill(body)))


@pytest.fixture
def owned(demo):
    """What r01 and r08 own, and a viewer to whom the Fells team is opened."""
    viewer()
    Opening.objects.create(person=Person.objects.get(key="viewer"), team=Team.objects.get(key="fells"))
    firm = Firm(Person.objects.get(key="a1"))
    return {owner: Belongings(owner, firm) for owner in OWNERS}


@pytest.mark.parametrize("who", [*ROLES, "nobody"])
def test_each_role_changes_only_what_is_its_own_or_below_it(owned, sign_in, who):
    """What is allowed writes to its table and to the audit; what is not writes nothing at all."""
    client, wrong = sign_in(who) if who != "nobody" else Client(), []
    for address, body, whose, table, *held in POSTS:
        # What belongs to nobody is tried once.
        for owner in OWNERS if "{" in f"{address}{list(body.values())}{held}" else OWNERS[:1]:
            answer, tables = tried(client, owned[owner], address, body, *held)
            if may(who, whose, owner):
                # How somebody likes a page drawn is nobody's business.
                needed = {table} if table == "org_preference" else {table, "org_auditentry"}
                good = answer.status_code in (200, 302) and needed <= tables
            else:
                # That it was tried may be written down.
                good = answer.status_code in (302, 403, 404, 422) and not tables - {"org_auditentry"}
            if not good:
                wrong.append((address, body, owner, answer.status_code, sorted(tables)))
    assert not wrong


@pytest.mark.parametrize("who", ROLES)
def test_nobody_takes_what_is_anothers_by_way_of_an_own_thing(owned, sign_in, who):
    """Whoever may change both may; for others nothing comes together, and nothing of the other's is told."""
    mine, theirs, wrong = owned["r01"], owned["r08"], []
    mine.names |= {f"their_{name}": key for name, key in theirs.names.items()}
    client = sign_in(who)
    for address, body, table in MIXED:
        if who == "r08" and "{" not in address:
            continue  # What r08 makes anew is r08's own.
        answer, tables = tried(client, mine, address, body)
        # Nobody's tally comes to another's dashboard; all else may be brought together from above.
        both = who in ("m1", "a1") and table
        good = table in tables if both else theirs.names["deal"] not in str(answer.content)
        if not good or (not both and joined(mine, theirs, client, address, body)):
            wrong.append((address, body, answer.status_code, sorted(tables)))
    assert not wrong


def joined(mine, theirs, client, address, body):
    """Whether a request brings the two together: a deal at their account, more that is theirs, less of their customers."""

    def held():
        accounts = (theirs.names["account"], theirs.names["twin"])
        moved = DealRevision.objects.filter(deal__key=mine.names["deal"], owner__key="r08")
        tiles = Tile.objects.filter(tally=theirs.names["tally"])
        counted = [
            Deal.objects.filter(account__key__in=accounts),
            Account.objects.filter(key__in=accounts),
            moved,
            tiles,
        ]
        return [rows.count() for rows in (*counted, *(m.objects.filter(owner__key="r08") for m in (Account, Lead)))]

    with nothing_stays():
        before = held()
        client.post(mine.fill(address), mine.fill(body))
        return held() != before


def places(owned):
    """Addresses of pages, panels and files; what they are about is the other's."""
    about = {"r08": "{owner}", "d9001": "{deal}", "ac001": "{account}", "c0001": "{contact}", "l0621": "{lead}"}
    for name, method, path in TABLE:
        if method == "get" and not name.startswith("api"):
            yield owned.fill(re.sub("|".join(about), lambda found: about[found[0]], path.partition("?")[0]))


ASKS = (
    "",
    "who=person:{owner}",
    "who=team:rivers",
    "status=all&find=zwick&q=zwick&rep={owner}&person={owner}&whose={owner}&row={owner}&value={owner}&node=person:{owner}"
    "&deal={deal}&account={account}&twin={twin}&opened=deal:{deal}&open=team:rivers/person:{owner}&part=all",
    "by=person&period=FY2027-Q4&node=team:rivers&row=team:rivers&open=team:rivers&rep=team:rivers",
    "of=person&whose={owner}&all=yes&show=won&year=2027&owner={owner}&where=&status=open&customer={account}",
)
OF_PROGRAMS = (
    "deals?per_page=200&status=all",
    "deals/csv?status=all",
    "deals/{deal}",
    "figures/forecast?period=FY2027-Q4&by=person",
    "figures/forecast?period=FY2027-Q3&by=person&person={owner}",
    "figures/attainment?period=FY2027-Q4&by=person",
    "figures/conversion?period=FY2027-Q3&by=person",
    "tallies/days-to-win?period=FY2027-Q3&person={owner}",
)


PAGES_OF = {"r01": slice(None), "m2": slice(0, None, 2), "viewer": slice(1, None, 4)}


@pytest.mark.parametrize("who", PAGES_OF)
def test_no_answer_holds_anything_of_somebody_else(owned, sign_in, client, who):
    """Every page, panel and file, asked for what is another's in each parameter that takes an identifier; the interface too."""
    sign_in(who)
    others, seen = owned["r08"], []
    # A viewer sees by the same rule as a manager: each is asked some of the pages.
    pages = list(places(others))[PAGES_OF[who]]
    asked = [f"{path}?{others.fill(query)}" for path in pages for query in ASKS]
    asked += [others.fill(f"/deals/{{deal}}/{part}/") for part in ("quote", "working/amount", "part/details")]
    asked += [others.fill(f"/api/{path}") for path in OF_PROGRAMS]
    token = give_token(viewer_of(Person.objects.get(key=who)), "mine", NOW)
    answered = 0
    for address in asked:
        answer = client.get(address, headers={"Authorization": f"Bearer {token}"})
        answered += answer.status_code == 200
        if found := others.shown_in(b"".join(answer).decode(errors="replace")):
            seen.append((address, answer.status_code, found))
    assert not seen
    assert answered > len(pages), "pages were really read"
