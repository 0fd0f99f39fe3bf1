"""The gate: what is sent, signed in with, counted and written down; each by requests as somebody would send them."""

import logging
import time

import pytest
from django.contrib.auth.models import User
from django.test import Client, RequestFactory
from django.urls import path

from tests.conftest import NOW
from tests.support.answers import text
from wise_tally.config import urls
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.models import AuditEntry, Person
from wise_tally.domain.org.token_actions import give_token, person_of_token
from wise_tally.interfaces.api.assembled import of_a_token
from wise_tally.web.request.gate import client_address

pytestmark = pytest.mark.django_db
OWN = "quite long enough"


@pytest.fixture
def with_password(demo):
    """r01 with a password."""
    user = User.objects.get(username="r01")
    user.set_password(OWN)
    user.save()
    return user


def test_bodies_are_refused_before_they_are_read(demo, sign_in, client):
    """By what the request says of its length: source RFC 9110, 413 Content Too Large."""
    form = {"content_type": "application/x-www-form-urlencoded"}
    assert client.post("/sign-in/", "x" * 1_000_001, **form).status_code == 413
    assert client.post("/deals/", {"file": b"x"}, CONTENT_LENGTH=str(2_000_000)).status_code == 413
    inside = sign_in("m1")
    refused = inside.post("/customers/notes/", "x" * 1_000_001, **form)
    assert refused.status_code == 413
    assert f"Request {refused['X-Request-Id']}" in text(refused)
    assert inside.post("/deals/", {"file": b"x"}, CONTENT_LENGTH=str(50_000_001)).status_code == 413
    assert inside.post("/deals/", {"file": b"x"}, CONTENT_LENGTH="many").status_code == 413


def test_a_fault_is_written_down_under_the_number_that_the_page_tells(demo, sign_in, caplog, settings):
    def fails(request):
        raise ZeroDivisionError

    urls.urlpatterns.append(path("fails/", fails))
    try:
        client = sign_in("m1")
        client.raise_request_exception = False
        with caplog.at_level(logging.INFO):
            answer = client.get("/fails/?who=person:r01")
    finally:
        urls.urlpatterns.pop()
    assert answer.status_code == 500
    assert answer["X-Request-Id"] in text(answer)
    assert any(record.exc_info and record.exc_info[0] is ZeroDivisionError for record in caplog.records)
    (line,) = [record.getMessage() for record in caplog.records if record.name == "wise_tally.requests"]
    assert line.startswith("GET /fails/ m1 500 ")
    assert "person" not in line, "queries hold names"


def test_one_signs_in_by_name_or_mail_and_wrong_ones_are_counted_by_address(with_password, client):
    Person.objects.filter(key="r01").update(email="Iva@ferrow.example")
    assert client.post("/sign-in/", {"username": "iva@ferrow.example", "password": OWN}).status_code == 302
    codes = [Client().post("/sign-in/", {"username": f"name {n}", "password": "wrong"}).status_code for n in range(51)]
    assert (set(codes[:50]), codes[50]) == ({401}, 429), "fifty names from one address are a guesser"
    assert Client().post("/sign-in/", {"username": "r01", "password": OWN}).status_code == 429
    elsewhere = Client(REMOTE_ADDR="192.0.2.7")
    assert elsewhere.post("/sign-in/", {"username": "r01", "password": OWN}).status_code == 302
    assert AuditEntry.objects.filter(action="wrong sign-in").count() == 50
    assert AuditEntry.objects.filter(action="sign-in paused").exists()


@pytest.mark.parametrize(
    ("proxies", "passed_on", "address"),
    [
        ([], "198.51.100.9", "203.0.113.5"),
        (["203.0.113.5"], "198.51.100.9", "198.51.100.9"),
        (["203.0.113.5"], "10.0.0.1, 198.51.100.9", "198.51.100.9"),
        (["203.0.113.5", "198.51.100.9"], "10.0.0.1, 198.51.100.9", "10.0.0.1"),
    ],
)
def test_where_a_request_comes_from_is_believed_of_named_proxies_only(settings, proxies, passed_on, address):
    settings.TRUSTED_PROXIES = proxies
    request = RequestFactory().get("/", REMOTE_ADDR="203.0.113.5", HTTP_X_FORWARDED_FOR=passed_on)
    assert client_address(request) == address


HOURS = [("seen", 11, False), ("seen", 13, True), ("at", 29 * 24, False), ("at", 31 * 24, True)]


@pytest.mark.parametrize(("name", "ago", "ends"), HOURS)
def test_a_sign_in_ends_idle_and_after_a_month(demo, sign_in, name, ago, ends):
    client = sign_in("m1")
    session = client.session
    session["signed_in"] = session["signed_in"] | {name: time.time() - ago * 3600}
    session.save()
    assert (client.get("/forecast/").status_code == 302) is ends


def test_all_sign_ins_of_a_person_end_at_once_and_a_leavers_for_good(with_password, sign_in):
    here, there = sign_in("r01"), sign_in("r01", apart=True)
    token = give_token(viewer_of(Person.objects.get(key="r01")), "mine", NOW)
    here.post("/sign-out/", {"what": "everywhere"})
    assert there.get("/today/").status_code == 302
    again, admin = sign_in("r01", apart=True), sign_in("a1")
    values = {"name": "Iva Marrin", "role": "rep", "active_from": "2020-01-01"}
    admin.post("/setup/lists/people/r01/", values | {"active_to": "2026-11-20"})
    admin.post("/setup/lists/people/r01/", values | {"active_to": ""})
    assert again.get("/today/").status_code == 302, "back, but not by what was before"
    assert person_of_token(token, NOW) is None
    assert again.post("/sign-in/", {"username": "r01", "password": OWN}).status_code == 401


def test_the_last_administrator_gets_no_last_day_and_who_goes_leaves_the_name(demo, sign_in):
    admin = sign_in("a1")
    me = {"name": "Wilf Ansty", "role": "admin", "active_to": "2027-01-01"}
    assert "is the only administrator. Make somebody else administrator first." in text(
        admin.post("/setup/lists/people/a1/", me)
    )
    admin.post("/setup/lists/people/", {"name": "Short Stay", "role": "rep"})
    admin.post("/setup/people/short_stay/", {"what": "sign-in"})
    admin.post("/setup/people/short_stay/", {"what": "sign-in-name", "name": "stay"})
    AuditEntry.objects.create(
        at=NOW, person=Person.objects.get(key="short_stay"), who="Short Stay (short_stay)", action="looked"
    )
    admin.post("/setup/lists/people/short_stay/remove/")
    assert not User.objects.filter(username="stay").exists()
    assert "Short Stay (short_stay)" in text(admin.get("/setup/audit/"))


def test_requests_of_one_token_are_counted(demo, client, monkeypatch):
    monkeypatch.setattr(of_a_token, "num_requests", 5)
    token = give_token(viewer_of(Person.objects.get(key="m1")), "busy", NOW)
    of_another = give_token(viewer_of(Person.objects.get(key="m1")), "calm", NOW)
    codes = [client.get("/api/tallies", headers={"Authorization": f"Bearer {token}"}) for _ in range(6)]
    assert (codes[4].status_code, codes[5].status_code) == (200, 429)
    assert 0 < int(codes[5]["Retry-After"]) <= 60
    assert client.get("/api/tallies", headers={"Authorization": f"Bearer {of_another}"}).status_code == 200


def test_a_form_without_its_mark_says_what_is_wrong(demo):
    strict = Client(enforce_csrf_checks=True)
    strict.force_login(User.objects.get(username="m1"))
    assert "Allow cookies" in text(strict.post("/pins/", {"what": "forget"}))
    strict.get("/forecast/")
    assert "another address" in text(strict.post("/pins/", {"what": "forget"}, HTTP_ORIGIN="https://elsewhere.example"))


def test_files_taken_and_what_was_denied_are_written_down(demo, sign_in):
    client = sign_in("r01")
    client.get("/deals/table.csv")
    client.get("/setup/imports/")
    found = AuditEntry.objects.filter(who="Iva Marrin (r01)").values_list("action", "detail")
    assert ("file taken", "/deals/table.csv") in found
    assert ("request denied", "GET /setup/imports/") in found


def test_a_form_that_is_refused_leads_back_to_its_page_filled_in(demo, sign_in):
    """In a browser the refusal stands on the page it came from, with what was typed; a script gets the plain answer."""
    client, page = sign_in("m1"), "/deals/?f=stage:is:Offer"
    sent = {"deal": "1:d9001", "expected_close": "soonish", "csrfmiddlewaretoken": "x"}
    back = client.post("/deals/", sent, HTTP_REFERER=f"http://testserver{page}")
    assert (back.status_code, back.url) == (303, page)
    shown = client.get(page)
    assert "“soonish” is not a date" in text(shown)
    kept = dict(shown.context["refusal"]["fields"])
    assert kept == {"deal": "1:d9001", "expected_close": "soonish"}, "no secret of the form is kept"
    assert client.get(page).context["refusal"] is None, "it is told once"
    assert client.post("/deals/", sent, HTTP_REFERER="http://elsewhere.example/").status_code == 422
    by_script = {"HTTP_REFERER": f"http://testserver{page}", "HTTP_X_IN_PLACE": "yes"}
    assert client.post("/deals/", sent, **by_script).status_code == 422
    assert client.post("/deals/", sent).status_code == 422
    viewer = sign_in("r01", apart=True)
    denied = viewer.post("/setup/processes/", {"name": "Mine"}, HTTP_REFERER="http://testserver/deals/")
    assert (denied.status_code, denied.url) == (303, "/deals/")
