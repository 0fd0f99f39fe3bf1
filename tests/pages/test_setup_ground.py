"""Lists, people, teams and territories: moves hold from a day on, what is in use stays, rights are kept."""

from datetime import date

import pytest
from django.contrib.auth.models import User

from tests.pages.test_setup_stages import form as stage_form
from tests.support.answers import text
from tests.support.world import ask
from wise_tally.book.store import books
from wise_tally.domain.deals.actions import last_revision
from wise_tally.domain.deals.handover import open_deals_of, owned_by, portions_of, proposed
from wise_tally.domain.deals.models import Account, Deal, DealRevision, Lead, OwnField, OwnFieldValue, Product
from wise_tally.domain.org.book_number import reference_changed
from wise_tally.domain.org.models import AuditEntry, CommissionRate, Person, TeamParent, Workspace
from wise_tally.domain.process.models import Category, Source, StageKind
from wise_tally.domain.targets.models import Quota

pytestmark = pytest.mark.django_db
AS_OF, QUARTER = "2026-11-23", "FY2027-Q3"
BEFORE = ("FY2027-Q2", "2026-09-30")


def past():
    """Last quarter as it stood then, by team, person and territory."""
    return [ask(name, *BEFORE, by=by) for name in ("forecast", "attainment") for by in ("team", "person", "territory")]


def test_a_reorganisation_of_today_leaves_last_quarter_to_the_cent(demo, sign_in):
    """Teams, people, territories, a leaver's deals, probabilities and stages; also after the book is read anew."""
    client, before = sign_in("a1"), past()
    now_rivers = ask("forecast", QUARTER, AS_OF, by="team")
    moves = [("teams", "team:rivers", "team:north"), ("teams", "person:r01", "team:coast"),
             ("territories", "territory:north_fells", "territory:lakeland")]  # fmt: skip
    for slug, node, above in moves:
        answer = client.post(f"/setup/tree/{slug}/", {"node": node, "above": above, "from_on": AS_OF})
        assert answer.status_code == 302, (slug, node)
    assert "went from Joss Merrow to" in text(hand_over(client, "r08", "all", "r05"))
    client.post("/setup/lists/people/r05/rate/", {"rate": "4.5", "from_on": AS_OF})
    stages = "/setup/stages/new_site/"
    probabilities = {
        f"probability__{key}": "33" for key in ("ns_enquiry", "ns_survey", "ns_plan", "ns_offer", "ns_terms")
    }
    typed = stage_form(client, **probabilities, category__ns_terms="early", confirmed="yes")
    assert client.post(stages, typed).status_code == 302
    client.post(stages + "add/", {"name": "Trial", "kind": "open", "probability": "50", "category": "commit"})
    client.post(stages + "move/", {"stage": "ns_offer", "to": "up"})
    client.post(stages + "retire/", {"stage": "ns_enquiry", "what": "retire"})
    merge = {"stage": "ns_survey", "what": "merge", "into": "ns_plan", "confirmed": "yes"}
    assert client.post(stages + "retire/", merge).status_code == 302
    assert past() == before
    books.forget()
    assert past() == before
    after = ask("forecast", QUARTER, AS_OF, by="person")
    assert after["r08"]["open"] == "0.00"
    assert ask("forecast", QUARTER, AS_OF, by="team") != now_rivers
    assert ask("forecast", QUARTER, AS_OF)[""]["open"] == after_total(after)
    assert CommissionRate.objects.filter(subject_key="r05").order_by("from_on").last().rate_bp == 450


def after_total(rows):
    from tests.support.naive import cents

    total = sum(cents(row["open"]) for key, row in rows.items() if key != "scope")
    return f"{total // 100}.{total % 100:02}"


def test_trees_have_no_loop_on_any_date(demo, sign_in):
    client, before = sign_in("a1"), TeamParent.objects.count()
    tree = books.current().reference.team_tree(date(2026, 11, 23))
    teams = books.current().reference.teams
    child = next(i for i, parent in enumerate(tree.parents) if parent != -1)
    posted = {"node": f"team:{teams[tree.parents[child]].key}", "above": f"team:{teams[child].key}"}
    for day in (AS_OF, "2027-05-01"):
        answer = client.post("/setup/tree/teams/", posted | {"from_on": day})
        assert answer.status_code == 422
        assert "because that would make a loop" in text(answer)
    assert "is not a date" in text(client.post("/setup/tree/teams/", posted | {"from_on": "soon"}))
    assert TeamParent.objects.count() == before


def person(**typed):
    return {"name": "New One", "email": "", "role": "rep", "active_from": "", "active_to": "", **typed}


PERSON_FAULTS = [({"name": ""}, "Enter a name (up to 200 characters)."), ({"email": "no address"}, "is not an e-mail address"),
                 ({"role": "king"}, "king"), ({"active_from": "a while ago"}, "is not a date"),
                 ({"active_from": "2026-02-01", "active_to": "2026-01-01"}, "last day is before"),
                 ({"name": "Iva Marrin"}, "has the same name or e-mail. Choose another name or e-mail.")]  # fmt: skip


@pytest.mark.parametrize(("typed", "says"), PERSON_FAULTS)
def test_bad_people_are_refused_and_what_was_typed_stays(demo, sign_in, typed, says):
    client, count = sign_in("a1"), Person.objects.count()
    mail = Person.objects.get(name="Iva Marrin").email
    answer = client.post("/setup/lists/people/", person(**{"email": mail if "name" in typed else "", **typed}))
    assert answer.status_code == 422
    assert says in text(answer)
    assert Person.objects.count() == count


def test_the_last_administrator_stays(demo, sign_in):
    client = sign_in("a1")
    for address, posted in (
        ("/setup/lists/people/a1/", person(name="A")),
        ("/setup/lists/people/a1/remove/", {}),
    ):
        assert "is the only administrator. Make somebody else administrator first." in text(
            client.post(address, posted)
        )
    client.post("/setup/lists/people/", person(name="Second", role="admin"))
    assert client.post("/setup/lists/people/a1/", person(name="A")).status_code == 302
    assert Person.objects.get(key="a1").role == "rep"


def test_a_joiner_signs_in_with_the_password_shown_once(demo, sign_in, client):
    admin = sign_in("a1")
    admin.post("/setup/lists/people/", person(name="Joiner Longman", active_from=AS_OF))
    joiner = Person.objects.get(name="Joiner Longman")
    page = text(admin.post(f"/setup/people/{joiner.key}/", {"what": "sign-in"}))
    password = page.split('class="token">')[1].split("<")[0]
    assert password not in text(admin.get(f"/setup/lists/people/{joiner.key}/"))
    client.logout()
    assert client.post("/sign-in/", {"username": "joiner.longman", "password": password}).status_code == 302
    assert client.get("/forecast/").url == "/password/", "somebody else knows it, so it is changed first"
    for own, says in (("short", "at least 12"), ("password1234", "too common"), ("joiner.longman1", "too similar")):
        typed = {"old_password": password, "new_password1": own, "new_password2": own}
        assert says in text(client.post("/password/", typed))
    own = "quite another one"
    assert client.post("/password/", typed | {"new_password1": own, "new_password2": own}).status_code == 302
    assert client.get("/forecast/").status_code == 200
    password = own
    Person.objects.filter(pk=joiner.pk).update(active_to=date(2026, 11, 22))
    assert client.get("/forecast/").url.startswith("/sign-in/"), "who has left is out at once"
    assert client.post("/sign-in/", {"username": "joiner.longman", "password": password}).status_code == 401


def test_what_is_in_use_is_not_taken_away_and_new_names_go_to_the_deals(demo, sign_in):
    client = sign_in("m1")
    Source.objects.all().delete()
    name = Deal.objects.exclude(source="").values_list("source", flat=True)[0]
    assert "Add to list" in text(client.get("/setup/lists/sources/"))
    client.post("/setup/lists/sources/", {"name": name})
    listed = {entry.name: entry.key for entry in Source.objects.all()}
    address = f"/setup/lists/sources/{listed[name]}/"
    assert "already exists. Choose another name." in text(client.post("/setup/lists/sources/", {"name": name.upper()}))
    refused = client.post(address + "remove/")
    assert refused.status_code == 409
    assert "is used by" in text(refused)
    count = Deal.objects.filter(source=name).count()
    before = ask("forecast", QUARTER, AS_OF, by="source")[name]
    client.post(address, {"name": "Renamed"})
    assert Deal.objects.filter(source="Renamed").count() == count > 0
    assert {**ask("forecast", QUARTER, AS_OF, by="source")["Renamed"], "key": name, "name": name} == before
    assert DealRevision.objects.filter(stage__kind="lost").exclude(lost_reason="").exists()
    assert client.post("/setup/lists/categories/commit/remove/").status_code == 409
    assert AuditEntry.objects.filter(action="source changed", before__contains=name).exists()
    Deal.objects.filter(source="Renamed").update(source="")
    Lead.objects.filter(source="Renamed").update(source="")
    assert "has 24 quotas" in text(client.post(address + "remove/")), "targets are narrowed to it"


def test_categories_have_unique_ranks_and_two_editors_see_both_values(demo, sign_in):
    client = sign_in("m1")
    assert "Rank 1 is used by" in text(
        client.post("/setup/lists/categories/", {"name": "Sure", "rank": "1", "counted": "on"})
    )
    page = text(client.get("/setup/lists/categories/early/"))
    seen = page.split('name="expected" value="')[1].split('"')[0].replace("&quot;", '"')
    early, typed = "/setup/lists/categories/early/", {"rank": "3", "counted": "on", "expected": seen}
    client.post(early, typed | {"name": "Early on"})
    late = client.post(early, typed | {"name": "Young"})
    assert late.status_code == 422
    assert "has changed this to “Early on”" in text(late)
    assert 'value="Young"' in text(late)
    assert Category.objects.get(key="early").name == "Early on"


def test_own_fields_keep_their_values(demo, sign_in):
    client, address = sign_in("m1"), "/setup/lists/own-fields/"
    posted = {"name": "Basin", "applies_to": "deal", "kind": "choice", "choices": "upper; lower"}
    assert "Enter at least two options, separated by ;" in text(client.post(address, posted | {"choices": "upper"}))
    assert "Options are only possible for the kind “choice”. Leave this empty." in text(
        client.post(address, posted | {"kind": "text"})
    )
    assert client.post(address, posted).status_code == 302
    field = OwnField.objects.get(name="Basin")
    OwnFieldValue.objects.create(field=field, subject_key="d9001", value="upper")
    assert "The option “upper” is in use" in text(
        client.post(f"{address}{field.key}/", posted | {"choices": "lower; middle"})
    )
    assert "Only fields without values can be deleted" in text(client.post(f"{address}{field.key}/remove/"))
    assert "so its kind and record type cannot be changed" in text(
        client.post(f"{address}{field.key}/", posted | {"kind": "number", "choices": ""})
    )


def test_a_node_with_quotas_stays(demo, sign_in):
    client = sign_in("a1")
    client.post("/setup/lists/teams/", {"name": "Empty team", "manager": ""})
    assert client.post("/setup/lists/teams/empty_team/remove/").status_code == 302
    client.post("/setup/lists/teams/", {"name": "Empty team", "manager": ""})
    cell = "team:empty_team:2027-01-01"
    client.post("/setup/quotas/?year=2027", {f"q:{cell}": "5", f"expected:{cell}": ""})
    refused = client.post("/setup/lists/teams/empty_team/remove/")
    assert refused.status_code == 409
    assert "has 1 quota and 0 submitted forecasts" in text(refused)
    assert "Change these first." in text(client.post("/setup/lists/territories/coastal/remove/"))


def test_products_and_money_as_typed(demo, sign_in):
    client, address = sign_in("m1"), "/setup/lists/products/"
    bad = client.post(address, {"name": "Buoy", "unit_price_minor": "1,25,0"})
    assert "such as 1250.00" in text(bad)
    assert 'value="1,25,0"' in text(bad)
    assert (
        client.post(address, {"name": "Buoy", "unit_price_minor": "1 250.50", "unit_cost_minor": ""}).status_code == 302
    )
    assert 'value="1250.50"' in text(client.get(f"{address}buoy/"))


def test_what_reps_and_viewers_may_read_is_set_in_one_place(demo, sign_in, client):
    admin = sign_in("a1")
    page = {"organisation": "F", "currency": "EUR", "time_zone": "Europe/Dublin", "fiscal_year_start_month": "4"}
    for typed, says in (
        ({"currency": "EUX"}, "three-letter code, for example EUR"),
        ({"currency": "JPY"}, "are already in use. Choose a currency with the same number of decimals."),
        ({"time_zone": "Mars"}, "is not a time zone"),
    ):
        assert says in text(admin.post("/setup/organisation/", page | typed))
    late = admin.post("/setup/organisation/", page | {"expected": '{"organisation": "Old"}'})
    assert "Somebody else has changed this to" in text(late)
    mate = next(p for p in ("r02", "r03", "r04") if team_of(p) == team_of("r01"))
    other = next(p for p in ("r08", "r10", "r12") if team_of(p) != team_of("r01"))
    assert sign_in("r01").get(f"/forecast/?who=person:{mate}").status_code == 403
    sign_in("a1").post("/setup/organisation/", page | {"reps_see_team": "on"})
    rep = sign_in("r01")
    assert rep.get(f"/forecast/?who=person:{mate}").status_code == 200
    assert rep.get(f"/attainment/?who=team:{team_of('r01')}").status_code == 200
    assert rep.get(f"/forecast/?who=person:{other}").status_code == 403
    assert "Showing" in text(rep.get("/forecast/"))
    assert ask("forecast", QUARTER, AS_OF, person="r01")["scope"]
    Person.objects.create(key="v1", name="V", role="viewer", user=User.objects.create(username="v1"))
    assert sign_in("v1").get(f"/forecast/?who=person:{other}").status_code == 200
    sign_in("a1").post("/setup/people/v1/", {"what": "open", "team": [team_of("r01")]})
    viewer = sign_in("v1")
    assert viewer.get(f"/forecast/?who=person:{other}").status_code == 403
    assert viewer.get("/forecast/?who=person:r01").status_code == 200


def team_of(key):
    """The team of a person today."""
    reference = books.current().reference
    index = next(i for i, found in enumerate(reference.people) if found.key == key)
    return reference.teams[reference.team_of(index, date(2026, 11, 23).toordinal())].key


def hand_over(client, giver, rule, *takers, **chosen):
    """Hand over as the preview proposes, but for what is chosen otherwise."""
    page = f"/setup/people/{giver}/hand-over/"
    shown = client.get(page, {"rule": rule, "taker": takers}).context
    given = {f"to:{one.key}": person.key for one, person in shown["portions"]}
    posted = {"rule": rule, "taker": takers, "mark": shown["mark"]} | given | chosen
    return client.post(page, posted, follow=True)


@pytest.mark.parametrize("rule", ["territory", "account", "evenly"])
def test_a_leaver_hands_over_to_several_by_a_rule_and_it_is_undone(demo, sign_in, rule):
    """The largest portion first to whom has least; what belongs together stays so; undone, nothing has happened."""
    giver, takers = Person.objects.get(key="r12"), ("r10", "r14", "r13")
    client, before = sign_in("a1"), ask("forecast", QUARTER, AS_OF, by="person")
    owners = dict(Account.objects.values_list("key", "owner__key"))
    portions = portions_of(giver, rule)
    places = {
        "territory": lambda r: r.territory_id,
        "account": lambda r: r.deal.account_id,
        "evenly": lambda r: r.deal_id,
    }
    assert len({places[rule](r) for one in portions for r in one.deals}) == sum(bool(one.deals) for one in portions)
    first = portions[0]
    answer = hand_over(client, "r12", rule, *takers, **{f"to:{first.key}": "r14"})
    assert "Undo" in text(answer)
    assert not owned_by(giver).anything
    assert {last_revision(revision.deal).owner.key for revision in first.deals} == {"r14"}
    stale = {"rule": rule, "taker": takers, "mark": "old"}
    assert client.post("/setup/people/r12/hand-over/", stale).status_code == 422
    assert client.post("/setup/people/r12/hand-over/undo/").status_code == 302
    assert ask("forecast", QUARTER, AS_OF, by="person") == before
    assert dict(Account.objects.values_list("key", "owner__key")) == owners
    assert client.post("/setup/people/r12/hand-over/undo/").status_code == 409


def test_portions_are_divided_evenly_and_a_change_since_forbids_the_undo(demo, sign_in):
    giver, takers = Person.objects.get(key="r12"), list(Person.objects.filter(key__in=("r10", "r14")))
    portions = portions_of(giver, "evenly")
    given = proposed(portions, takers)
    sums = [sum(one.amount_minor for one in portions if given[one.key] == taker) for taker in takers]
    assert abs(sums[0] - sums[1]) <= max(one.amount_minor for one in portions)
    client = sign_in("a1")
    hand_over(client, "r12", "evenly", "r10", "r14")
    Account.objects.filter(owner__key="r10", pk__in=[a.pk for one in portions for a in one.accounts]).update(
        owner=giver
    )
    assert "another owner since" in text(client.post("/setup/people/r12/hand-over/undo/"))


def test_a_leaver_hands_everything_over_and_the_past_stays(demo, sign_in):
    giver, taker = Person.objects.get(key="r12"), Person.objects.get(key="r13")
    Lead.objects.create(key="l1", name="L", owner=giver, created_at=Deal.objects.all()[0].created_at)
    deals = [revision.deal for revision in open_deals_of(giver)]
    owned, closed = owned_by(giver), ask("forecast", *BEFORE, by="person")["r12"]
    assert owned.deals == len(deals) > 0
    client = sign_in("a1")
    assert "Choose at least one person" in text(client.get("/setup/people/r12/hand-over/?rule=all"))
    assert "Choose at least one person" in text(client.get("/setup/people/r12/hand-over/?rule=all&taker=r12"))
    hand_over(client, "r12", "all", "r13")
    assert not owned_by(giver).anything
    assert Account.objects.filter(owner=taker).count() >= owned.accounts
    for deal in deals:
        last = last_revision(deal)
        assert (last.owner, last.reason, last.stage.kind) == (taker, f"transferred from {giver.name}", StageKind.OPEN)
    assert ask("forecast", *BEFORE, by="person")["r12"] == closed
    entry = AuditEntry.objects.filter(action="transferred").get()
    assert (giver.name in entry.before, taker.name in entry.after) == (True, True)


def test_every_change_of_the_ground_is_in_the_audit_with_both_values(demo, sign_in):
    client = sign_in("a1")
    client.post("/setup/tree/teams/", {"node": "person:r01", "above": "team:coast", "from_on": AS_OF})
    client.post("/setup/tree/teams/", {"node": "team:rivers", "above": "", "from_on": AS_OF})
    typed = {"node": "east coast", "above": "Lakes (territory:lakeland)", "from_on": AS_OF}
    client.post("/setup/tree/territories/", typed)
    nowhere = client.post("/setup/tree/territories/", {**typed, "above": "Nowhere"})
    assert "“Nowhere” is not a valid name." in text(nowhere)
    client.post("/setup/lists/people/r02/rate/", {"rate": "4", "from_on": AS_OF})
    assert client.post("/setup/lists/people/r02/rate/", {"rate": "104", "from_on": AS_OF}).status_code == 422
    client.post("/setup/lists/products/calibration/", {"name": "Calibration visit", "product_group": "Visits",
                                                      "unit_price_minor": "1300", "unit_cost_minor": "640"})  # fmt: skip
    found = {entry.action: (entry.before, entry.after) for entry in AuditEntry.objects.order_by("pk")}
    assert found["person moved"] == ("team fells", "team coast")
    assert found["team moved"] == ("under South region (south)", "under the organisation")
    assert found["territory moved"] == ("under Coast and Estuary (coastal)", "under Lakes (lakeland)")
    assert found["commission rate set"] == ("3\u00a0%", "4\u00a0%")
    assert '"unit_price_minor": 125000' in found["product changed"][0]
    assert '"unit_price_minor": 130000' in found["product changed"][1]
    page = text(client.get("/setup/audit/?find=territory"))
    assert "under Lakes (lakeland)" in page
    assert "No entries match." in text(client.get("/setup/audit/?find=zebra"))


def test_numbers_are_written_and_read_in_the_style_of_the_workspace(demo, sign_in):
    """With a decimal comma pages, inputs and readings follow; files and programs keep the point."""
    admin = sign_in("a1")
    kept = {
        name: getattr(Workspace.current(), name)
        for name in ("organisation", "currency", "time_zone", "fiscal_year_start_month")
    }
    assert admin.post("/setup/organisation/", kept | {"decimal_sign": ",", "day_order": "mdy"}).status_code == 302
    client, row = sign_in("m1"), {"name": "Buoy", "unit_cost_minor": "1,25"}
    assert client.post("/setup/lists/products/", row | {"unit_price_minor": "1.250"}).status_code == 302
    product = Product.objects.get(name="Buoy")
    assert (product.unit_price_minor, product.unit_cost_minor) == (125_000, 125)
    assert 'value="1250,00"' in text(client.get("/setup/lists/products/buoy/"))
    page = text(client.get("/deals/d9001/"))
    assert "420\u00a0000,00" in page
    assert 'data-decimal=","' in page
    assert '"420000.00"' in client.get("/deals/table.json?cols=amount").content.decode()
    Quota.objects.filter(subject="person", starts_on=date(2026, 11, 1)).update(value=7_777_750)
    reference_changed()
    assert "77777.50" in client.get("/setup/quotas/sheet.csv").content.decode()
    assert client.get("/deals/?f=close:to:11/28/2026").status_code == 200
    assert client.get("/deals/?f=close:to:28/11/2026").status_code >= 400


def test_who_may_not_change_a_setting_reads_it_in_words(demo, sign_in):
    page = text(sign_in("m1").get("/setup/organisation/"))
    assert "First month of the fiscal year</dt><dd>April<" in page
    assert "figures and deals</dt><dd>no<" in page
    rep = text(sign_in("r01").get("/setup/lists/partners/p1/"))
    assert "Territory</dt><dd>Headwaters<" in rep
    assert "Retired</dt><dd>no<" in rep
