"""What the demo firm sells and by whom, its lists, and what it asks, helps with and sends at its stages. All invented."""

from datetime import date, timedelta
from random import Random
from typing import Any

from wise_tally.demo import meetings
from wise_tally.demo.deals import REASONS
from wise_tally.demo.firm import SEASON, SOURCES, Rows

# Identifier, name, group, price and cost of one.
PRODUCTS = (
    ("gauge_radar", "Radar level gauge", "Gauging stations", "6400.00", "3900.00"),
    ("gauge_bubbler", "Bubbler gauge", "Gauging stations", "3150.00", "1800.00"),
    ("cabin", "Gauging cabin", "Gauging stations", "11800.00", "8200.00"),
    ("buoy_reservoir", "Reservoir buoy", "Buoys", "9700.00", "5600.00"),
    ("buoy_harbour", "Harbour buoy", "Buoys", "14200.00", "8900.00"),
    ("telemetry_basic", "Telemetry, a station and year", "Telemetry", "540.00", "120.00"),
    ("telemetry_alarm", "Telemetry with alarms, a station and year", "Telemetry", "860.00", "190.00"),
    ("calibration", "Calibration visit", "Visits", "1250.00", "640.00"),
)
# Where a customer is, and the partner who is at home there; elsewhere the consultant.
OF_TERRITORY = {"north_fells": "p1", "south_fells": "p1", "east_coast": "p2", "west_coast": "p2"}
CAMPAIGNS = ("Spring floods", "Gauge day")


def products() -> Rows:
    """What is sold."""
    names = ("product_id", "name", "product_group", "unit_price", "unit_cost")
    return [dict(zip(names, row, strict=True)) for row in PRODUCTS]


def partners() -> Rows:
    """Two resellers and a consultant."""
    names = ("partner_id", "name", "kind", "territory_id", "commission_rate")
    rows = (
        ("p1", "Tarn & Weir Supplies", "reseller", "headwaters", "8"),
        ("p2", "Estuary Instruments", "reseller", "coastal", "7.5"),
        ("p3", "Gauging Advice Partnership", "consultant", "", "3"),
    )
    return [dict(zip(names, row, strict=True)) for row in rows]


def through_partners_and_campaigns(deals: Rows, accounts: Rows) -> None:
    """Deals that came by a partner name it, by where the customer is; some of those met at an event name the campaign.

    Each is decided by its deal alone, so that nothing else of the demo changes.
    """
    territory = {row["account_id"]: row["territory_id"] for row in accounts}
    for deal in deals:
        own = Random(f"partner {deal['deal_id']}")
        at_home = OF_TERRITORY.get(territory[deal["account_id"]], "p3")
        if deal["source"] == "Partner":
            deal["partner_id"] = at_home if own.random() < 0.8 else own.choice(("p1", "p2", "p3"))
        elif deal["source"] in ("Field day", "Enquiry form") and own.random() < 0.6:
            deal["campaign"] = own.choice(CAMPAIGNS)


def commission_rates(today: date) -> Rows:
    """Two rates that changed, one of a person, one of a partner."""
    begun, changed = (today - timedelta(days=900)).isoformat(), (today - timedelta(days=140)).isoformat()
    rows = [("person", "r02", begun, "2.5"), ("person", "r02", changed, "3"), ("partner", "p1", begun, "7")]
    rows.append(("partner", "p1", changed, "8"))
    names = ("subject", "subject_id", "from_on", "rate")
    return [dict(zip(names, row, strict=True)) for row in rows]


def workspace(today: date) -> dict[str, Any]:
    """Lists, a season curve, and the three moments of a few stages."""
    whole = sum(SEASON)
    shares = [share * 10_000 // whole for share in SEASON]
    shares[-1] += 10_000 - sum(shares)
    return {
        "deal_types": [
            {"id": "new_business", "name": "new business", "group": "New"},
            {"id": "existing_customer", "name": "existing customer", "group": "Existing"},
        ],
        "sources": [{"id": name.casefold().replace(" ", "_"), "name": name} for name in SOURCES],
        "lost_reasons": [{"id": name.casefold().replace(" ", "_"), "name": name} for name in REASONS],
        **meetings.workspace(today),
        "season_curves": [{"id": "ours", "name": "Our season", "months_bp": shares}],
        "entry_checks": [
            {"stage": "ns_terms", "position": 1, "text": "amount is at least 1"},
            {"stage": "ns_terms", "position": 2, "text": "account is filled"},
        ],
        "stage_guides": [
            {
                "stage": "ns_survey",
                "text": "Stand where the station will stand, at low water and after rain.",
                "checklist": "Access for the van\nPower or sun\nSignal for telemetry\nWho owns the bank",
                "activities": "site visit after 7 days: survey\nphone after 10 days: ask about access",
            }
        ],
        "notices": [
            {
                "id": "ns_won_1",
                "stage": "ns_won",
                "recipients": "manager\nadministrators",
                "subject": "Won: {deal}",
                "body": "{owner} won {deal} of {account}: {amount}.",
                "document": "invoice",
            }
        ],
    }
