"""Build the demo as a package and read it like any other."""

import json
import tempfile
from datetime import date, datetime
from pathlib import Path
from random import Random

from django.contrib.auth.models import User

from wise_tally.demo import firm, goods, ledger, relations
from wise_tally.demo.calls import calls
from wise_tally.demo.deals import deals
from wise_tally.demo.spread import dated_as_in_life, spread, with_skipped_stages
from wise_tally.domain.org.models import AuditEntry, BookNumber, Person
from wise_tally.package.reading import read_package
from wise_tally.package.writing import write_tables

SEED = 20_260_401
MADE = "demo made"


def build_demo(today: date, now: datetime) -> None:
    """Fill an empty database with the demo of `today`, its people able to sign in with one click."""
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder), today)
        read_package(Path(folder), now)
    for person in Person.objects.filter(user=None):
        user, _ = User.objects.get_or_create(username=person.key, defaults={"first_name": person.name})
        person.user = user
        person.save(update_fields=["user"])
    number = BookNumber.objects.get(pk=1).number
    AuditEntry.objects.create(at=now, action=MADE, detail=f"{today}, data version {number}")


def _around_deals(today: date, accounts: firm.Rows, deals: firm.Rows, revisions: firm.Rows) -> dict[str, firm.Rows]:
    """What belongs to deals and customers, by table; deals get their contacts."""
    random = Random(SEED + 1)
    state = {row["deal_id"]: row for row in revisions}
    lines, from_lines = ledger.lines(random, deals, state)
    contacts = relations.contacts(random, accounts)
    leads, lead_details = relations.leads(random, today, deals, state)
    lead_moves = relations.lead_moves(Random(SEED + 4), today, leads, lead_details)
    return {
        "contacts": contacts,
        "deal_contacts": relations.roles(random, deals, contacts),
        "deal_lines": lines,
        "deal_details": relations.details(random, today, deals, state, from_lines),
        "payments": ledger.payments(random, deals, state),
        "lead_steps": relations.LEAD_STEPS,
        "leads": leads,
        "lead_details": lead_details,
        "lead_moves": lead_moves,
        "activities": relations.activities(random, today, deals, revisions, accounts),
        "notes": relations.notes(random, today, deals, state),
        "invoices": ledger.invoices(random, today, accounts),
        "orders": ledger.orders(random, today, accounts),
        "calls": calls(Random(SEED + 2), today, state),
        "fields": [relations.SITE_ACCESS],
        "field_values": relations.site_access(Random(SEED + 3), deals),
    }


def write_demo(folder: Path, today: date) -> None:
    """The demo as a package in `folder`."""
    random = Random(SEED)
    people, memberships = firm.people(today)
    teams, team_parents = firm.teams(today)
    stages, rules = firm.stages(today)
    accounts = firm.accounts(random)
    all_deals, revisions, credits = deals(random, today, accounts)
    goods.through_partners_and_campaigns(all_deals, accounts)
    revisions = with_skipped_stages(revisions)
    dated_as_in_life(today, revisions)
    spread(today, revisions, {row["deal_id"] for row in credits})
    tables: dict[str, firm.Rows] = {
        "settings": firm.settings(),
        "processes": [
            {"process_id": "new_site", "name": "New site"},
            {"process_id": "renewal", "name": "Renewal and extension"},
        ],
        "stages": stages,
        "stage_rules": rules,
        "teams": teams,
        "team_parents": team_parents,
        "people": people,
        "memberships": memberships,
        "territories": [{"territory_id": k, "name": n, "parent_id": p} for k, n, p in firm.TERRITORIES],
        "products": goods.products(),
        "partners": goods.partners(),
        "commission_rates": goods.commission_rates(today),
        "accounts": accounts,
        "deals": all_deals,
        "deal_revisions": revisions,
        "deal_credits": credits,
        "quotas": firm.quotas(today) + firm.further_quotas(today),
        **_around_deals(today, accounts, all_deals, revisions),
    }
    write_tables(folder, "demo", tables)
    (folder / "workspace.json").write_text(json.dumps(goods.workspace(today)))
