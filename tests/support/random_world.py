"""Random workspaces: every dated history, splits, short forms, reopened and backward deals."""

from datetime import date, datetime, timedelta
from random import Random

from tests.support.naive import Naive
from tests.support.world import World, moment
from wise_tally.core.book import Book, BookAsOf
from wise_tally.core.calendar import Period

START = date(2024, 1, 1)
STAGES = ("s1", "s2", "s3", "w", "l")
# Products of worlds with lines: key, group, cost; and a day and a period in their midst.
PRODUCTS = (("p1", "Buoys", "40"), ("p2", "Buoys", None), ("p3", "Visits", "7.5"), ("p4", None, "1"))
AS_OF, PERIOD = date(2025, 3, 10), "2025-01-01/2025-06-30"


def random_world(seed: int, deals: int = 60) -> World:
    """A workspace of the given seed, always the same."""
    random, world = Random(seed), World()
    world.tables["stages"][1] |= {
        "own_probability": random.choice(("true", "false")),
        "retired": random.choice(("true", "")),
    }
    world.tables["people"].append({"person_id": "d", "name": "D", "role": "rep"})
    world.add("memberships", person_id="c", team_id="t2", from_on="2024-01-01")
    world.add("memberships", person_id="c", team_id="t1", from_on=_day(random))
    world.add("team_parents", team_id="t2", parent_id="t1", from_on="2024-01-01")
    world.add("team_parents", team_id="t2", from_on=_day(random))
    world.add("territory_parents", territory_id="y", parent_id="x", from_on="2024-01-01")
    world.add("territory_parents", territory_id="y", from_on=_day(random))
    for day, probability in (("2024-01-01", 15), (_day(random), 35)):
        category = random.choice(("early", None))
        world.add("stage_rules", stage_id="s1", effective_at=moment(day), probability=probability, category_id=category)
    world.tables["stage_rules"].sort(key=lambda row: row["effective_at"])
    for number in range(deals):
        _deal(random, world, f"d{number:03}")
    return world


def world_with_lines(seed: int) -> World:
    """A random workspace whose deals have product lines, payments, partners and own fields."""
    random, world = Random(seed), random_world(seed, 40)
    for key, group, cost in PRODUCTS:
        world.add("products", product_id=key, name=key, product_group=group, unit_price="100", unit_cost=cost)
    world.add("partners", partner_id="pa", name="Pa").add("partners", partner_id="pb", name="Pb")
    world.add("fields", field_id="colour", applies_to="deal", name="Colour", kind="choice", choices="red;blue")
    for deal in world.tables["deals"]:
        deal["partner_id"] = random.choice(("pa", "pb", ""))
        if random.random() < 0.5:
            world.add(
                "field_values", field_id="colour", subject_id=deal["deal_id"], value=random.choice(("red", "blue"))
            )
        for key, _, cost in random.choices(PRODUCTS, k=random.choice((0, 1, 2, 3))):
            row = {"quantity": random.choice(("1", "2.5", "0")), "unit_price": f"{random.randrange(90_000)}.35"}
            discount = random.choice((None, "12.5"))
            world.add("deal_lines", deal_id=deal["deal_id"], product_id=key, unit_cost=cost, discount=discount, **row)
        for _ in range(random.choice((0, 0, 1, 2))):
            every = random.choice((None, "month", "quarter", "year"))
            times = random.choice((None, 3, 30)) if every else None
            due = date(2025, random.randrange(1, 13), random.randrange(1, 29)).isoformat()
            amount = f"{random.randrange(9_000)}.99"
            world.add("payments", deal_id=deal["deal_id"], due_on=due, amount=amount, every=every, times=times)
    return world


def window(seed: int) -> tuple[date, date, date]:
    """A random period, first and last day, and an as-of day of the years that the worlds cover."""
    random = Random(f"window{seed}")
    start = date(2024, random.randint(1, 12), random.randint(1, 28))
    end = date(2025, random.randint(1, 12), random.randint(1, 28))
    as_of = date(random.choice((2024, 2025, 2026)), random.randint(1, 12), random.randint(1, 28))
    return start, end, as_of


def random_reading(seed: int, deals: int = 70) -> tuple[Book, BookAsOf, Period, Naive]:
    """The book of a random workspace, the snapshot of a random day, a random period, and the naive reading of that day."""
    world, (start, end, day) = random_world(seed, deals), window(seed)
    book = world.book()
    return book, book.as_of(day), book.reference.fiscal.parse(f"{start}/{end}"), Naive(world.tables, day)


def _day(random: Random) -> str:
    return (START + timedelta(days=random.randrange(1, 700))).isoformat()


def _deal(random: Random, world: World, key: str) -> None:
    created = datetime.combine(START, datetime.min.time()) + timedelta(seconds=random.randrange(700 * 86_400))
    columns = {"deal_type": random.choice(("new", "old", None)), "source": random.choice(("fair", "web", None))}
    common = {"deal_id": key, "name": key, "process_id": "p", "created_at": f"{created.isoformat()}+00:00", **columns}
    if random.random() < 0.15:
        _short(random, world, common, created)
        return
    world.add("deals", **common)
    at = created
    for _ in range(random.randint(1, 6)):
        world.add(
            "deal_revisions",
            deal_id=key,
            effective_at=f"{at.isoformat()}+00:00",
            stage_id=random.choice(STAGES),
            amount=_amount(random),
            expected_close=random.choice((_day(random), None)),
            owner_id=random.choice("abcd"),
            territory_id=random.choice(("x", "y", None)),
            category_id=random.choice(("commit", "early", "left_out", None, None)),
            probability=random.choice(("33.33", "50", None, None)),
            void=random.choice(("true", None, None, None, None)) if at != created else None,
        )
        at += timedelta(seconds=random.choice((0, 86_400, random.randrange(90 * 86_400))))
    if random.random() < 0.25:
        for from_on in (None, _day(random)):
            first = random.choice((1, 25, 33.33, 50))
            pair = random.sample("abcd", 2)
            world.add("deal_credits", deal_id=key, person_id=pair[0], share=first, from_on=from_on)
            world.add("deal_credits", deal_id=key, person_id=pair[1], share=round(100 - first, 2), from_on=from_on)


def _short(random: Random, world: World, common: dict, created: datetime) -> None:
    stage = random.choice(STAGES)
    closed = created + timedelta(seconds=random.randrange(60 * 86_400)) if stage in "wl" else None
    world.add(
        "deals",
        **common,
        stage_id=stage,
        amount=_amount(random),
        owner_id=random.choice("abcd"),
        expected_close=random.choice((_day(random), None)),
        territory_id=random.choice(("y", None)),
        closed_at=f"{closed.isoformat()}+00:00" if closed else None,
        lost_from_stage_id=random.choice(("s2", None)) if stage == "l" else None,
    )


def _amount(random: Random) -> str:
    return f"{random.randrange(100_000)}.{random.randrange(100):02}"
