"""Closed doors: valid requests about things of one's own, of one's team and of others, by each role; nothing of others is shown."""

import re
from contextlib import contextmanager

import pytest
from django.db import transaction

from tests.conftest import NOW
from tests.pages.test_permissions import TABLE, viewer
from tests.support.doors import Belongings, written
from wise_tally.deals.models import Account, Deal, DealRevision, Lead
from wise_tally.org.access import viewer_of
from wise_tally.org.models import Opening, Person, Team
from wise_tally.org.token_actions import give_token
from wise_tally.shelf.book import shelf

pytestmark = pytest.mark.django_db
ROLES = ("r01", "r02", "r08", "m2", "m1", "a1", "viewer")
# r01 and r02 are of the Fells team, which m2 manages; r08 is of the Rivers team; m1 manages both regions.
OWNERS = ("r01", "r08")
ABOVE = {"r01": {"m2", "m1", "a1"}, "r08": {"m1", "a1"}}
OWN, MANAGED, ADMIN, RULES, ANYBODY = "own", "managed", "admin", "rules", "anybody"
DEAL, ACCOUNT, LEAD = "/deals/{deal}/", "/customers/account/{account}/", "/customers/lead/{lead}/change/"
STATE = {"stage": "ns_offer", "expected_close": "2026-12-20", "category": "", "revision": "{revision}"}
NEW_DEAL = {"name": "New", "stage": "ns_enquiry", "amount": "5", "expected_close": "2027-01-05", "owner": "{owner}"}
TALK = {"kind": "phone", "subject": "talk"}
CELL = "person:{owner}:2027-01-01"
# Address, body, whose it must be, what is written.
POSTS = [
    (DEAL + "change/", {"edited": "amount", "amount": "4321", **STATE}, OWN, "deals_dealrevision"),
    (DEAL + "revert/", {"revision": "{revision}"}, OWN, "deals_dealrevision"),
    (DEAL + "part/next/", {"next_step": "Ring"}, OWN, "deals_deal"),
    (DEAL + "part/details/", {"name": "Other", "account": "{account_name}"}, OWN, "deals_deal"),
    (DEAL + "part/lines/", {"product-0": "calibration", "quantity_10000ths-0": "2", "unit_price_minor-0": "9"}, OWN, "deals_dealline"),
    (DEAL + "part/contacts/", {"contact-0": "{contact}", "role-0": "decides"}, OWN, "deals_dealcontact"),
    (DEAL + "part/credits/", {"person-0": "{owner}", "share_bp-0": "100"}, OWN, "deals_dealcredit"),
    (DEAL + "part/payments/", {"due_on-0": "2027-02-01", "amount_minor-0": "9"}, OWN, "deals_payment"),
    (DEAL + "files/", {"file": "FILE"}, OWN, "deals_keptfile"),
    (DEAL + "files/", {"away": "{file}"}, OWN, "deals_keptfile"),
    ("/today/{deal}/", {"amount": "9", "next_step": "Ring", **STATE}, OWN, "deals_deal"),
    ("/deals/", {"deal": "{revision}:{deal}", "category": "commit", "confirmed": "yes"}, OWN, "deals_dealrevision"),
    ("/deals/", {"deal": "{revision}:{deal}", "owner": "r02", "confirmed": "yes"}, MANAGED, "deals_dealrevision"),
    ("/deals/new-deal/", NEW_DEAL | {"account": "{account_name}"}, OWN, "deals_deal"),
    ("/deals/new-deal/", NEW_DEAL | {"account": "{account}"}, OWN, "deals_deal"),
    (ACCOUNT + "change/", {"name": "Zz", "kind": "person", "owner": "{owner}"}, OWN, "deals_account"),
    (ACCOUNT + "merge/", {"twin": "{twin}"}, OWN, "deals_account"),
    (ACCOUNT + "contacts/", {"name": "Ann"}, OWN, "deals_contact"),
    ("/customers/contact/{contact}/", {"name": "Bea"}, OWN, "deals_contact"),
    ("/customers/contact/{contact}/write/", {"subject": "Hello"}, OWN, "deals_activity"),
    (LEAD, {"what": "save", "name": "Lee", "status": "new", "owner": "{owner}"}, OWN, "deals_lead"),
    (LEAD, {"what": "work"}, OWN, "deals_lead"),
    (LEAD, {"what": "drop", "because": "small"}, OWN, "deals_lead"),
    (LEAD, {"what": "qualify", "account": "", "account_name": "Quite New", **NEW_DEAL}, OWN, "deals_deal"),
    (LEAD, {"what": "qualify", "account": "{account}", **NEW_DEAL}, OWN, "deals_deal"),
    ("/customers/activities/", {"deal": "{deal}", **TALK}, OWN, "deals_activity"),
    ("/customers/activities/", {"account": "{account}", **TALK}, OWN, "deals_activity"),
    ("/customers/activities/", {"lead": "{lead}", **TALK}, OWN, "deals_activity"),
    ("/customers/activity/{activity}/", {"what": "done"}, OWN, "deals_activity"),
    ("/customers/activity/{activity}/", {"what": "away"}, OWN, "deals_activity"),
    ("/customers/notes/", {"account": "{account}", "text": "so"}, OWN, "deals_note"),
    ("/customers/note/{note}/", {}, OWN, "deals_note"),
    ("/forecast/calls/", {"node": "person:{owner}", "amount": "9", "reason": "so"}, OWN, "targets_call"),
    ("/team/one-to-one/{owner}/notes/", {"notes": "so", "held_on": "2026-11-23"}, MANAGED, "org_meeting"),
    ("/attainment/commissions/of/{owner}/hand-out/", {}, MANAGED, "targets_commissionstatement"),
    ("/setup/quotas/?year=2027", {"q:" + CELL: "77", "seen:" + CELL: "{quota}"}, MANAGED, "targets_quota"),
    ("/setup/quotas/undo/", {"change": "{change}"}, MANAGED, "targets_quota"),
    ("/setup/lists/people/{owner}/", {"name": "Nn", "role": "rep"}, ADMIN, "org_person"),
    ("/setup/lists/people/{owner}/rate/", {"rate": "4", "from_on": "2026-11-23"}, ADMIN, "org_commissionrate"),
    ("/setup/people/{owner}/", {"what": "hand-over", "taker": "r05"}, ADMIN, "deals_dealrevision"),
    ("/setup/tree/teams/", {"node": "person:{owner}", "above": "team:coast", "from_on": "2026-11-23"}, ADMIN, "org_membership"),
    ("/setup/lists/people/", {"name": "Joiner", "role": "rep"}, ADMIN, "org_person"),
    ("/setup/lists/sources/", {"name": "Fair"}, RULES, "process_source"),
    ("/setup/lists/categories/early/", {"name": "Early on", "rank": "3", "counted": "on"}, RULES, "process_category"),
    ("/setup/processes/", {"name": "Direct", "from": "empty"}, RULES, "process_process"),
    ("/setup/stages/new_site/add/", {"name": "Trial", "kind": "open", "probability": "50", "category": "commit"}, RULES, "process_stage"),
    ("/setup/stages/new_site/ns_offer/moments/", {"what": "checks", "checks": "next step is filled"}, RULES, "process_entrycheck"),
    ("/setup/quotas/parts/", {"name": "Fair week", "starts_on": "2027-01-01", "ends_on": "2027-01-06"}, RULES, "targets_customperiod"),
    ("/setup/imports/ledger/", {}, ADMIN, "deals_invoice"),
    ("/setup/organisation/", {"organisation": "F", "currency": "EUR", "time_zone": "Europe/Dublin",
                              "fiscal_year_start_month": "4"}, ADMIN, "org_workspace"),
    ("/setup/stages/new_site/move/", {"stage": "ns_offer", "to": "up"}, RULES, "process_stage"),
    ("/setup/stages/new_site/retire/", {"stage": "ns_enquiry", "what": "retire"}, RULES, "process_stage"),
    ("/forecast/changed/meeting/", {}, RULES, "org_meeting"),
    ("/tokens/", {"name": "t"}, ANYBODY, "org_apitoken"),
    ("/team/boards/", {"name": "Mine"}, ANYBODY, "boards_dashboard"),
    ("/team/tally/keep/?process=renewal", {"kept": "show=open&by=person", "name": "T"}, ANYBODY, "boards_tally"),
]  # fmt: skip


def may(who, whose, owner):
    """Whether somebody may do what `whose` asks to a thing of an owner."""
    if whose in (ADMIN, ANYBODY):
        return whose == ANYBODY or who == "a1"
    if whose == RULES:
        return who in ("m1", "m2", "a1")
    return who in ABOVE[owner] or (whose == OWN and who == owner)


@contextmanager
def nothing_stays():
    """What is written inside is rolled back, and the book is the one of before."""
    shelf.shelved()
    kept = shelf._current
    with transaction.atomic():
        yield
        transaction.set_rollback(True)
    shelf._current = kept


def tried(client, owned, address, body):
    """The answer to one request and the tables it wrote to; nothing of it stays."""
    with nothing_stays():
        return written(lambda: client.post(owned.fill(address), owned.fill(body)))


@pytest.fixture
def owned(demo):
    """What r01 and r08 own, and a viewer to whom the Fells team is opened."""
    viewer()
    Opening.objects.create(person=Person.objects.get(key="viewer"), team=Team.objects.get(key="fells"))
    return {owner: Belongings(owner) for owner in OWNERS}


@pytest.mark.parametrize("who", ROLES)
def test_each_role_changes_only_what_is_its_own_or_below_it(owned, sign_in, who):
    """What is allowed writes to its table and to the audit; what is not writes nothing at all."""
    client, wrong = sign_in(who), []
    for address, body, whose, table in POSTS:
        for owner in OWNERS:
            answer, tables = tried(client, owned[owner], address, body)
            if may(who, whose, owner):
                good = answer.status_code in (200, 302) and {table, "org_auditentry"} <= tables
            else:
                # That it was tried may be written down.
                good = answer.status_code in (302, 403, 404, 422) and not tables - {"org_auditentry"}
            if not good:
                wrong.append((address, body, owner, answer.status_code, sorted(tables)))
    assert not wrong


# Something of r01's brought together with something of r08's: address, body, what is written where both are open.
MIXED = [
    (DEAL + "part/details/", {"name": "Mine", "account": "{their_account_name}"}, "deals_deal"),
    (DEAL + "part/details/", {"name": "Mine", "account": "{their_account}"}, "deals_deal"),
    ("/deals/new-deal/", NEW_DEAL | {"account": "{their_account_name}"}, "deals_deal"),
    ("/deals/new-deal/", NEW_DEAL | {"account": "{their_account}"}, "deals_deal"),
    ("/deals/new-deal/", NEW_DEAL | {"owner": "{their_owner}"}, "deals_deal"),
    (LEAD, {"what": "qualify", "account": "{their_account}", **NEW_DEAL}, "deals_deal"),
    (LEAD, {"what": "save", "name": "Lee", "status": "new", "owner": "{their_owner}"}, "deals_lead"),
    (ACCOUNT + "change/", {"name": "Zz", "kind": "person", "owner": "{their_owner}"}, "deals_account"),
    (ACCOUNT + "merge/", {"twin": "{their_account}"}, "deals_account"),
    ("/deals/", {"deal": "{revision}:{deal}", "owner": "{their_owner}", "confirmed": "yes"}, "deals_dealrevision"),
]


@pytest.mark.parametrize("who", ROLES)
def test_nobody_takes_what_is_anothers_by_way_of_an_own_thing(owned, sign_in, who):
    """Whoever may change both may; for others nothing comes together, and nothing of the other's is told."""
    mine, theirs, wrong = owned["r01"], owned["r08"], []
    mine.names |= {f"their_{name}": key for name, key in theirs.names.items()}
    client = sign_in(who)
    for address, body, table in MIXED:
        answer, tables = tried(client, mine, address, body)
        good = table in tables if who in ("m1", "a1") else theirs.names["deal"] not in str(answer.content)
        if not good or (who not in ("m1", "a1") and joined(mine, theirs, client, address, body)):
            wrong.append((address, body, answer.status_code, sorted(tables)))
    assert not wrong


def joined(mine, theirs, client, address, body):
    """Whether a request brings the two together: a deal at their account, or their name as an owner."""
    with nothing_stays():
        client.post(mine.fill(address), mine.fill(body))
        accounts = (theirs.names["account"], theirs.names["twin"])
        deals = Deal.objects.filter(account__key__in=accounts).exclude(key=theirs.names["deal"])
        given = [model.objects.filter(owner__key="r08", key__startswith="z_") for model in (Account, Lead)]
        moved = DealRevision.objects.filter(deal__key=mine.names["deal"], owner__key="r08")
        found = deals.exists() or any(g.exclude(key__endswith="r08").exists() for g in given) or moved.exists()
        return found or not Account.objects.filter(key=theirs.names["account"]).exists()


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


@pytest.mark.parametrize("who", ["r01", "m2", "viewer"])
def test_no_answer_holds_anything_of_somebody_else(owned, sign_in, client, who):
    """Every page, panel and file, asked for what is another's in each parameter that takes an identifier; the interface too."""
    sign_in(who)
    others, seen = owned["r08"], []
    asked = [f"{path}?{others.fill(query)}" for path in places(others) for query in ASKS]
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
    assert answered > 200, "pages were really read"
