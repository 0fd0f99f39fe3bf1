"""What belongs to deals and leads: on a round trip, with bad packages, and with two writers at once."""

import csv
import threading
from dataclasses import replace
from datetime import date, timedelta

import pytest
from django.db import connection

from tests.conftest import NOW
from tests.support.world import World, ask
from wise_tally.book.store import books
from wise_tally.domain.deals.models import Account, Contact, Deal, DealContact, KeptFile, Lead, Note, SavedView
from wise_tally.domain.deals.parts import PARTS, Who, change_part, part_text
from wise_tally.domain.org.access import viewer_of
from wise_tally.domain.org.clock import local_day
from wise_tally.domain.org.models import Person
from wise_tally.domain.org.records import ChangedMeanwhile
from wise_tally.package.faults import PackageRefused
from wise_tally.package.reading import read_package
from wise_tally.package.writing import write_package


def small_world():
    """One deal with all that may belong to it beside its revisions."""
    world = World().deal("d1", ("2026-10-01", "s1", 100, "2026-12-01"))
    tables = world.tables
    tables["accounts"] = [{"account_id": "k", "name": "K & Sons"}]
    tables["contacts"] = [{"contact_id": "c", "account_id": "k", "name": "C"}]
    tables["deals"][0] |= {"account_id": "k", "next_step": "Ring"}
    tables["deal_details"] = [
        {"deal_id": "d1", "next_step_on": "2026-11-30", "competitor": "Rival, Ltd", "amount_from_lines": "true"}
    ]
    tables["deal_contacts"] = [{"deal_id": "d1", "contact_id": "c", "role": "decides"}]
    tables["leads"] = [{"lead_id": "l", "name": "L", "created_at": "2026-11-01T09:00:00+00:00", "status": "dropped"}]
    tables["lead_details"] = [{"lead_id": "l", "customer": "Basin", "email": "l@x.example", "dropped_because": "Small"}]
    tables["notes"] = [
        {
            "note_id": "n",
            "at": "2026-11-02T09:00:00+00:00",
            "person_id": "a",
            "deal_id": "d1",
            "text": 'Two\nlines, "quoted"',
        }
    ]
    return world


@pytest.mark.django_db
def test_nothing_is_lost_on_a_round_trip(tmp_path):
    small_world().read(tmp_path / "in")
    deal = Deal.objects.get()
    KeptFile.objects.create(key="f", deal=deal, name="plan.pdf", at=NOW, by="a", content=b"\x00\xff%PDF")
    SavedView.objects.create(key="v", name="Mine", owner=Person.objects.get(key="a"), starts=True, query="sort=-amount")
    write_package(tmp_path / "one", NOW)
    for model in (KeptFile, SavedView, Note, DealContact):
        model.objects.all().delete()
    Deal.objects.update(next_step_on=None, competitor="", amount_from_lines=False)
    Lead.objects.update(customer="", email="", dropped_because="")
    read_package(tmp_path / "one", NOW)
    write_package(tmp_path / "two", NOW)
    names = sorted(path.name for path in (tmp_path / "one").iterdir())
    for name in names:
        assert (tmp_path / "one" / name).read_bytes() == (tmp_path / "two" / name).read_bytes(), name
    deal.refresh_from_db()
    assert (deal.competitor, deal.amount_from_lines, str(deal.next_step_on)) == ("Rival, Ltd", True, "2026-11-30")
    assert bytes(KeptFile.objects.get().content) == b"\x00\xff%PDF"
    assert SavedView.objects.get().starts
    assert Lead.objects.get().dropped_because == "Small"
    assert Note.objects.get().text == 'Two\nlines, "quoted"'


@pytest.mark.django_db
def test_bad_rows_of_these_tables_are_reported_all_at_once(tmp_path):
    world = small_world()
    world.tables["deal_details"].append({"deal_id": "nowhere", "next_step_on": "soon", "amount_from_lines": "maybe"})
    world.tables["deal_details"].append({"deal_id": "d1"})
    world.tables["deal_contacts"].append({"deal_id": "d1", "contact_id": "nobody", "role": ""})
    world.tables["notes"].append({"note_id": "n", "at": "2026-11-02", "text": ""})
    with pytest.raises(PackageRefused) as refused:
        world.read(tmp_path)
    faults = {(fault.file, fault.column) for fault in refused.value.report.faults}
    assert {("deal_details.csv", "deal_id"), ("deal_details.csv", "next_step_on"),
            ("deal_details.csv", "amount_from_lines"), ("deal_contacts.csv", "contact_id"),
            ("deal_contacts.csv", "role"), ("notes.csv", "at"), ("notes.csv", "text")} <= faults  # fmt: skip
    assert not Deal.objects.exists()
    assert not Account.objects.exists()


@pytest.mark.django_db(transaction=True)
def test_of_two_writers_at_once_one_is_refused(tmp_path):
    """Both saw the same next step; the second is told what the first saved."""
    small_world().read(tmp_path)
    person = Person.objects.get(key="a")
    deal, viewer, reference = Deal.objects.get(), viewer_of(person), books.current().reference
    seen, results, start = part_text(deal, "next", NOW.date()), [], threading.Barrier(2)

    def write(words):
        try:
            start.wait()
            value = {"next_step": words, "next_step_on": None}
            change_part(Who(viewer, reference, NOW), Deal.objects.get(), "next", value, seen)
            results.append("written")
        except ChangedMeanwhile as meanwhile:
            results.append(meanwhile.now["next_step"])
        finally:
            connection.close()

    threads = [threading.Thread(target=write, args=(words,)) for words in ("one", "two")]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    kept = Deal.objects.get().next_step
    assert sorted(results) == sorted(["written", kept])
    assert kept in ("one", "two")


@pytest.mark.django_db
def test_every_part_reads_what_it_wrote(tmp_path):
    small_world().read(tmp_path)
    deal, viewer = Deal.objects.get(), viewer_of(Person.objects.get(key="a"))
    who = Who(viewer, books.current().reference, NOW)
    assert Contact.objects.count() == 1
    for name, part in PARTS.items():
        if name == "lines":
            continue
        before = part.read(deal, NOW.date())
        text = part_text(deal, name, NOW.date())
        part.write(deal, before, who)
        deal.refresh_from_db()
        assert part_text(deal, name, NOW.date()) == text or name == "credits"


@pytest.mark.django_db
@pytest.mark.parametrize(("zone", "here"), [("Pacific/Kiritimati", "2026-11-24"), ("Pacific/Pago_Pago", "2026-11-22")])
def test_today_is_the_day_of_the_workspace_not_that_of_greenwich(zone, here, tmp_path):
    """Credit divided near midnight holds from the local day on: the day before keeps its figures, this one has the new."""
    world = small_world()
    world.tables["settings"] = [
        row | ({"value": zone} if row["key"] == "time_zone" else {}) for row in world.tables["settings"]
    ]
    world.read(tmp_path)
    moment = NOW.replace(hour=10)
    day = date.fromisoformat(here)
    assert local_day(moment) == day
    deal, viewer = Deal.objects.get(), viewer_of(Person.objects.get(key="m"))
    who = Who(replace(viewer, role="admin"), books.current().reference, moment)
    shares = {"rows": [{"person": "a", "share_bp": 5_000}, {"person": "b", "share_bp": 5_000}]}
    change_part(who, deal, "credits", shares, part_text(deal, "credits", day))
    before, after = (
        ask("forecast", "FY2027", when.isoformat(), by="person") for when in (day - timedelta(days=1), day)
    )
    assert (before["a"]["open"], after["a"]["open"], after["b"]["open"]) == ("100.00", "50.00", "50.00")


@pytest.mark.django_db
def test_the_foot_line_counts_undated_and_untouched_deals(tmp_path, client):
    """Through the page of the forecast, each linked to its list."""
    from django.contrib.auth.models import User

    world = World()
    world.deal("old", ("2026-09-01", "s1", 100, "2026-12-01"))
    world.deal("young", ("2026-11-20", "s1", 100, "2026-12-01"))
    world.deal("undated", ("2026-11-20", "s1", 300, ""))
    world.read(tmp_path)
    Person.objects.filter(key="m").update(role="admin", user=User.objects.create(username="m"))
    client.force_login(User.objects.get(username="m"))
    strip = client.get("/forecast/").context["footer"]
    assert (strip.undated, strip.undated_deals, strip.untouched_deals) == (30_000, 1, 1)
    for only, keys in (("undated", {"undated"}), ("untouched", {"old"})):
        rows = list(csv.reader(client.get(f"/deals/table.csv?only={only}").content.decode().splitlines()))
        assert {row[0] for row in rows[1:]} == keys
