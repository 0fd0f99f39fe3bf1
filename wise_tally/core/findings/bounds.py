"""From where on a figure is worth a finding: bounds with what is usual, which a firm may set otherwise."""

from dataclasses import dataclass, field, fields
from typing import Any


def bound(usual: float, words: str, unit: str, least: float, most: float) -> Any:
    """A bound with its usual value, its words, its unit and the values accepted."""
    return field(default=usual, metadata={"words": words, "unit": unit, "least": least, "most": most})


@dataclass(frozen=True)
class Bounds:
    """Bounds of findings; shares are from 0 to 1. Source: common practice, own choice where the trade has none."""

    big_share: float = bound(0.2, "Big deals: the largest share of open deals", "%", 0.01, 1)
    usual_days_times: float = bound(1.5, "Stalled: so many times the typical days of the stage", "times", 1, 10)
    slips: float = bound(2, "Pushed again: close date moved later at least", "times", 1, 20)
    missed_contacts: float = bound(2, "Not contacted: missed contacts", "contacts", 1, 50)
    last_days: float = bound(7, "Last days of a period", "days", 1, 60)
    miss_chance: float = bound(0.2, "Will miss quota: chance of reaching it below", "%", 0.01, 0.5)
    decides_points: float = bound(0.1, "Deal that decides: chance of quota with it less without it", "%", 0.01, 1)
    calls_error: float = bound(0.1, "Submitted forecasts: above or below by at least", "%", 0.01, 1)
    calls_periods: float = bound(3, "Submitted forecasts: periods in a row", "periods", 2, 6)
    lead_days: float = bound(3, "Leads: days until the first contact", "days", 1, 60)
    owed_days: float = bound(30, "Overdue invoices: days past due", "days", 1, 365)
    owed_share: float = bound(0.01, "Overdue invoices: share of the customer’s open deals, at least", "%", 0.001, 1)
    stays_points: float = bound(
        0.2, "Deals stall: share past the typical days of a stage, above others’ by", "%", 0.05, 1
    )
    sales_fall: float = bound(0.25, "Customers: sales fell by at least", "%", 0.05, 1)
    activity_share: float = bound(0.7, "Activities: below so much of the target to date", "%", 0.1, 1)
    look_back_days: float = bound(91, "What changed: the last days, beside the year before them", "days", 28, 364)


BOUNDS = {one.name: one for one in fields(Bounds)}
USUAL: dict[str, float] = {name: getattr(Bounds(), name) for name in BOUNDS}
