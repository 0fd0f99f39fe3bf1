"""Money of the demo firm beside its deals: lines, payments, invoices, orders. All invented."""

from datetime import date, timedelta
from random import Random
from typing import Any

from wise_tally.demo.firm import Rows
from wise_tally.demo.goods import PRODUCTS

BY_THING = {"Buoy line": "buoy_harbour", "Reservoir buoy": "buoy_reservoir", "Telemetry": "telemetry_alarm",
            "Calibration visits": "calibration"}  # fmt: skip
MONTHS = 36
# The customer of the deciding deal: buys less and less and pays late.
# Every fifth deal each has one of these discounts, in percent.
DISCOUNTS = (0, 5, 0, 10, 20)
FALLING, LATE = "ac001", 4


def lines(random: Random, deals: Rows, state: dict[str, dict[str, Any]]) -> tuple[Rows, set[str]]:
    """Lines of about half the deals, adding up to their amounts, and which deals these are."""
    costs = {key: (float(price), float(cost)) for key, _, _, price, cost in PRODUCTS}
    rows: Rows = []
    with_lines = set()
    for deal in deals:
        if random.random() > 0.55 and deal["deal_id"] != "d9001":
            continue
        amount = round(float(state[deal["deal_id"]]["amount"]))
        visits = amount // 5 // 50 * 50
        product = BY_THING.get(deal["name"].split(",")[0], random.choice(("gauge_radar", "gauge_bubbler", "cabin")))
        for key, part in ((product, amount - visits), ("calibration", visits)):
            if part:
                number = _quantity(part, costs[key][0])
                price = part / number
                share = costs[key][1] / costs[key][0] * random.uniform(0.9, 1.15)
                listed, discount = _discounted(price, number, DISCOUNTS[int(deal["deal_id"][1:]) % len(DISCOUNTS)])
                row = {"deal_id": deal["deal_id"], "product_id": key, "quantity": number}
                rows.append(
                    row | {"unit_price": f"{listed:.2f}", "unit_cost": f"{price * share:.2f}", "discount": discount}
                )
        with_lines.add(deal["deal_id"])
    return rows, with_lines


def _discounted(price: float, number: int, percent: int) -> tuple[float, str]:
    """A list price and its discount that come to the same amount to the cent; the price itself where none does."""
    listed = round(price * 100 / (100 - percent), 2)
    if percent and round(number * listed * (100 - percent)) == round(number * price * 100):
        return listed, str(percent)
    return price, ""


def _quantity(amount: int, list_price: float) -> int:
    """How many pieces at about the list price, so that the price of one has whole cents."""
    wanted = max(1, round(amount / list_price))
    return next(number for number in range(wanted, 0, -1) if amount * 100 % number == 0)


def payments(random: Random, deals: Rows, state: dict[str, dict[str, Any]]) -> Rows:
    """One sum, instalments, or a fee every quarter, for what is won or close to it."""
    rows: Rows = []
    for deal in deals:
        last = state[deal["deal_id"]]
        if not last["stage_id"].endswith(("_won", "_offer", "_terms")) or not last["expected_close"]:
            continue
        amount = round(float(last["amount"]) * 100)
        first = date.fromisoformat(last["expected_close"]) + timedelta(days=30)
        form = random.random()
        row = {"deal_id": deal["deal_id"], "due_on": first.isoformat()}
        if form < 0.6:
            rows.append(row | {"amount": f"{amount / 100:.2f}"})
        elif form < 0.85:
            parts = [amount // 3, amount // 3, amount - 2 * (amount // 3)]
            for number, part in enumerate(parts):
                due = (first + timedelta(days=45 * number)).isoformat()
                rows.append({"deal_id": deal["deal_id"], "due_on": due, "amount": f"{part / 100:.2f}"})
        else:
            rows.append(row | {"amount": f"{amount // 8 / 100:.2f}", "every": "quarter", "times": 8})
    return rows


def invoices(random: Random, today: date, accounts: Rows) -> Rows:
    """Three years of invoices; one customer buys less and leaves the last ones unpaid."""
    groups = [(key, group) for key, _, group, *_ in PRODUCTS]
    rows: Rows = []
    for account in accounts:
        wanted = random.sample(groups, random.randint(1, 3))
        usual = random.lognormvariate(0, 0.6) * 2_400
        for days_ago in range(3, MONTHS * 30, 30):
            if random.random() > 0.5 and account["account_id"] != FALLING:
                continue
            issued = today - timedelta(days=days_ago + random.randint(0, 12))
            key, group = random.choice(wanted)
            amount = usual * random.uniform(0.5, 1.6)
            if account["account_id"] == FALLING:
                key, group = groups[(days_ago // 30) % 3]
                amount = (2_100 if days_ago < 300 else 6_800) * random.uniform(0.85, 1.1)
            paid = issued + timedelta(days=random.randint(18, 44))
            late = days_ago < 40 * LATE if account["account_id"] == FALLING else random.random() < 0.02
            row = {"invoice_id": f"i{len(rows) + 1:05}", "account_id": account["account_id"]}
            row |= {"issued_on": issued.isoformat(), "due_on": (issued + timedelta(days=30)).isoformat()}
            row |= {"amount": f"{round(amount)}.00", "product_group": group, "product_id": key}
            rows.append(row | {"paid_on": "" if late or paid > today else paid.isoformat()})
    return rows


def orders(random: Random, today: date, accounts: Rows) -> Rows:
    """Three years of orders; those that have not shipped are open."""
    rows: Rows = []
    for account in accounts:
        for days_ago in range(2, MONTHS * 30, 90):
            if random.random() > 0.6:
                continue
            ordered = today - timedelta(days=days_ago + random.randint(0, 60))
            ships = ordered + timedelta(days=random.randint(15, 150))
            key, _, group, price, _ = random.choice(PRODUCTS)
            row = {"order_id": f"o{len(rows) + 1:05}", "account_id": account["account_id"], "product_id": key}
            row |= {"ordered_on": ordered.isoformat(), "ships_on": ships.isoformat(), "product_group": group}
            amount = float(price) * random.randint(1, 4)
            rows.append(row | {"amount": f"{amount:.2f}", "open": "true" if ships > today else "false"})
    return rows
