"""The read-only interface: generated requests find no failure; tokens open what their person sees, until taken away."""

import csv
import io
import json
from datetime import date

import hypothesis
import pytest
import schemathesis
from django.core.signals import request_finished, request_started
from django.db import close_old_connections
from schemathesis.checks import load_all_checks
from schemathesis.specs.openapi.checks import positive_data_acceptance

from tests.support.world import ask
from wise_tally.config.wsgi import application
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.clock import now
from wise_tally.domain.org.models import ApiToken, AuditEntry, Person
from wise_tally.domain.org.token_actions import give_token

pytestmark = pytest.mark.django_db
load_all_checks()
AS_OF = "2026-11-23"


def token_of(key):
    return give_token(viewer_of(Person.objects.get(key=key)), "tests", now())


def bearer(token):
    return {"HTTP_AUTHORIZATION": f"Bearer {token}"}


@pytest.fixture
def api(demo):
    """The interface as its own document describes it, asked with a manager's token."""
    for signal in (request_started, request_finished):
        # The test's transaction lives on this connection, which an ordinary request would give back.
        signal.disconnect(close_old_connections)
    schema = schemathesis.openapi.from_wsgi("/api/openapi.json", application)
    schema.config.update(headers={"Authorization": f"Bearer {token_of('m1')}"})
    yield schema
    for signal in (request_started, request_finished):
        signal.connect(close_old_connections)


# A day before another, an identifier that is not there or a bridge of rows fits the schema and is refused in words all the same.
EXCLUDED = positive_data_acceptance
QUICK = hypothesis.settings(
    max_examples=12, deadline=None, derandomize=True, suppress_health_check=list(hypothesis.HealthCheck), database=None
)


def test_generated_requests_find_no_failure(api):
    """No fault, no answer that the document does not describe. Source: the OpenAPI document, by schemathesis."""
    operations = [result.ok() for result in api.get_all_operations()]
    assert len(operations) == 8
    for operation in operations:

        @QUICK
        @hypothesis.given(case=operation.as_strategy())
        def holds(case):
            case.headers = {**(case.headers or {}), "Accept-Encoding": "identity"}
            case.call_and_validate(excluded_checks=[EXCLUDED])

        holds()


@pytest.mark.parametrize(
    "name", ["forecast", "attainment", "outlook", "range", "days-to-win", "set-and-seen", "time-in-stage"]
)
def test_the_interface_says_what_the_command_says(demo, client, name):
    answer = client.get(
        f"/api/figures/{name}?period=FY2027-Q2&as_of={AS_OF}&by=person", **bearer(token_of("a1"))
    ).json()
    plain = ask(name, "FY2027-Q2", AS_OF, by="person")
    plain.pop("scope")
    rows = {(row["key"], row["group"]) if "group" in row else row["key"]: row for row in answer["rows"]}
    assert rows == plain


def test_a_csv_holds_the_same_rows(demo, client):
    token = bearer(token_of("m1"))
    rows = client.get("/api/figures/forecast?by=team", **token).json()["rows"]
    text = client.get("/api/figures/forecast/csv?by=team", **token).content.decode()
    read = list(csv.DictReader(io.StringIO(text)))
    assert [row["weighted"] for row in read] == [row["weighted"] for row in rows]
    assert [row["categories.commit"] for row in read] == [row["categories"]["commit"] for row in rows]


def test_a_token_shows_what_its_person_sees(demo, client):
    """A rep's holds the rep's deals and figures; another's deal looks like none; a basic password does as well."""
    rep, manager = bearer(token_of("r08")), bearer(token_of("m1"))
    mine = client.get("/api/deals?per_page=500", **rep).json()
    assert mine["total"] < client.get("/api/deals", **manager).json()["total"]
    from wise_tally.domain.deals.models import DealCredit

    credited = set(DealCredit.objects.filter(person__key="r08").values_list("deal__key", flat=True))
    assert {deal["owner"] for deal in mine["deals"] if deal["deal_id"] not in credited} == {"r08"}
    assert [row["key"] for row in client.get("/api/figures/forecast?by=person", **rep).json()["rows"]] == ["r08"]
    assert client.get("/api/figures/forecast?person=r01", **rep).status_code == 403
    other = next(d["deal_id"] for d in client.get("/api/deals?person=r01", **manager).json()["deals"])
    assert client.get(f"/api/deals/{other}", **rep).status_code == 404
    assert client.get("/api/deals/d9001", **rep).json()["amount"] == "420000.00"
    tally = client.get("/api/tallies/won-by-source", **rep).json()["rows"]
    assert sum(float(row["won"]) for row in tally) == float(ask("forecast", None, AS_OF, by="person")["r08"]["won"])


def test_tokens_are_given_once_and_taken_away(demo, sign_in, client):
    """The page shows a token once, keeps a hash, and ends it at once; an administrator may end anybody's."""
    browser = sign_in("r08", apart=True)
    page = browser.post("/tokens/", {"name": "a sheet"}).content.decode()
    token = page.split('<code class="token">')[1].split("</code>")[0]
    assert token not in browser.get("/tokens/").content.decode()
    kept = ApiToken.objects.get()
    assert token not in json.dumps([kept.digest, kept.name, *AuditEntry.objects.values_list("after", flat=True)])
    assert client.get("/api/deals", **bearer(token)).status_code == 200
    assert sign_in("r01", apart=True).post(f"/tokens/{kept.pk}/away/").status_code == 404
    assert sign_in("a1", apart=True).post(f"/tokens/{kept.pk}/away/").status_code == 302
    assert client.get("/api/deals", **bearer(token)).status_code == 401
    again = token_of("r08")
    Person.objects.filter(key="r08").update(active_to=date(2026, 11, 1))
    assert client.get("/api/deals", **bearer(again)).status_code == 401
